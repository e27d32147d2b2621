"""A hard trial of the engine, the journal and the runner: ``make torture``."""

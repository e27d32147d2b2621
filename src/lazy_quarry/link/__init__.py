"""Calls between processes: the engine's server and its clients."""

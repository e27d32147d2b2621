"""Lazy Quarry: write, place, run, watch and account for batch jobs, with nothing beside it."""

__version__ = "0.2.0"

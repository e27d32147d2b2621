"""Helpers inside a job: named parts of it, a command on every rank, many small tasks. Standard library only."""

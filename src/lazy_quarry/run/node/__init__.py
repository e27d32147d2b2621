"""The processes on a node that run jobs. Standard library only; nothing else of this program is imported."""

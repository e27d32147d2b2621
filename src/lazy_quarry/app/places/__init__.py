"""One file a place."""

"""One file a widget."""

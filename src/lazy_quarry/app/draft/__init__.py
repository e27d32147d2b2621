"""Draft: the script and its request, checked while they are written."""

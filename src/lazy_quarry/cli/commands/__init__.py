"""One file for each command, or for a few that belong together; imported when one of them is called."""

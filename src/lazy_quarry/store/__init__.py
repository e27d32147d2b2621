"""The state folder, the journal and its tables."""

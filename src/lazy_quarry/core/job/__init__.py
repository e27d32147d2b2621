"""A job: what it asks for, what that means for nodes, and where it stands."""

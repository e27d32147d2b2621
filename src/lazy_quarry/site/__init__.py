"""One site in use: what changes it, what is read of it, and how that is said."""

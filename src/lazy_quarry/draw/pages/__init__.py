"""Documents of pages: what stands on them, how they are laid out, and their mail."""

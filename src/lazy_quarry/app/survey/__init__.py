"""Survey: what the site has, what is free, and how much could start now."""

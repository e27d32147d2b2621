"""Watch: what runs, what waits and why, and what is done to jobs."""

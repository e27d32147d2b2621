"""Every path that follows from a script and a job."""

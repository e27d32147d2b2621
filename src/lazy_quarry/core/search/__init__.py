"""Searching all jobs that there ever were: the words of a search, read into values, and what is known of a job for it."""

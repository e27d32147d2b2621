"""Advice on the next request, from what earlier runs used, and warnings about running jobs."""

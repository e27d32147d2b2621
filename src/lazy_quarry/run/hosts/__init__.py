"""Hosts that are reached by SSH: the way there, what is sent there, and what a host says of itself."""

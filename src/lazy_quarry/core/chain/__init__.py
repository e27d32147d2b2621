"""Chains: jobs tied by what they wait for, in one file; read, checked, ordered and rehearsed as one thing."""

"""Ledger: what was used and charged in a period, and what is left."""

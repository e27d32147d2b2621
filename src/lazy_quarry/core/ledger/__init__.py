"""Charges, budgets and allocations."""

"""Charges, budgets and shares."""

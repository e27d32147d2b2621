"""Figures as values, by what they show; nothing here draws."""

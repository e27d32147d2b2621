"""Inputs made to break what reads them, guided by which code they reach."""

"""Figures of speed, each as a ratio to a reference measured in the same run."""

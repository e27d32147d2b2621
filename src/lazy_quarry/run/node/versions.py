"""The versions of the messages between an engine and an agent."""

from __future__ import annotations

OLDEST, NEWEST = 1, 2
"""Those that this program speaks."""

"""A key as it is shown."""

KeyHint = tuple[str, str, str]
"""The key, what it does in a word or two, and the action that a click on it runs; an empty one for none."""

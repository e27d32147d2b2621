"""The output of commands: text, tables, JSON and CSV of what they were answered."""

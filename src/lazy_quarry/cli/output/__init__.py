"""What commands print: text, tables, JSON and CSV of what they were answered."""

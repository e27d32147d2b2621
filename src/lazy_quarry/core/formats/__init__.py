"""Open formats that the core reads and writes: text in, values out."""

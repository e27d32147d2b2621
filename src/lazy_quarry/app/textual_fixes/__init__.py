"""Where Textual does something else than a person needs; each module names the defect that it mends."""

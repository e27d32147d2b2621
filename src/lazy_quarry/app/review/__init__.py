"""Review: how runs went, what they printed and made, and what to ask for next time."""

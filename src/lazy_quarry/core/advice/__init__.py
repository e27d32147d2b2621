"""From what runs used to what to ask for next, and what to see to while they run."""

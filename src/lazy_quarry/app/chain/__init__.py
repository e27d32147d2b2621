"""Chain: jobs tied by what they wait for, drawn, rehearsed and submitted as one thing."""

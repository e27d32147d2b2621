"""The only place where a job changes state: commands, events, and the state that they add up to."""

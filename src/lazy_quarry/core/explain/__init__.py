"""Why a job waits, who is ahead, and what would start sooner."""

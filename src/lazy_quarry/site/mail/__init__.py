"""Mail about jobs and chains: what is due, what it says, and where it is kept until it is sent."""

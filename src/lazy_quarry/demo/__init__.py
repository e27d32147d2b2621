"""The demo: the Oxbow Institute's cluster, which exists only in memory."""

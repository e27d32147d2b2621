"""What goes wrong with a cluster, said to a person."""


class ClusterError(Exception):
    """The cluster can't be made, or can't do what was asked; the text says what and where, and what to do."""

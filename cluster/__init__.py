"""Four hosts on one machine: real ones to every program that runs there, made and removed by one command (``make cluster``).

`Cluster` makes them, runs commands on the head and on each host, and lets faults happen to them: a cable that is cut, a
network that loses packets, a host that stops, starts again, has a wrong clock or a full disk. docs/cluster.md tells what
they are and what differs from machines of their own.
"""

from cluster.cluster import Cluster
from cluster.errors import ClusterError
from cluster.hosts import HOSTS, HostKind

__all__ = ["HOSTS", "Cluster", "ClusterError", "HostKind"]

"""The hosts for tests: made once for each process of the suite, all mended after each test."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest

from cluster.cluster import Cluster
from cluster.errors import ClusterError
from cluster.folder import CLUSTERS
from cluster.hosts import HOSTS


@pytest.fixture(scope="session")
def made_hosts() -> Iterator[Cluster]:
    """The hosts; skipped without root, and where they can't be made, except that CI fails there as root."""
    if os.geteuid() != 0:
        pytest.skip("hosts that one reaches by SSH need root: without it nobody else's session can be opened")
    try:
        made = Cluster.start(CLUSTERS / f"test-{os.getpid()}")
    except ClusterError as wrong:
        if os.environ.get("CI"):
            raise
        pytest.skip(str(wrong))
    yield made
    made.down()


@pytest.fixture
def hosts(made_hosts: Cluster) -> Iterator[Cluster]:
    """Four hosts with nothing wrong."""
    yield made_hosts
    for each in HOSTS:
        made_hosts.mend(each.name)

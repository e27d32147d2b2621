"""The site file of the head: the hosts as nodes of one site, with queues, traits and GPUs. It is the example of docs/cluster.md."""

from __future__ import annotations

import os
from pathlib import Path

from cluster.hosts import HEAD, HOSTS, SHARED, HostKind

FILE = Path(".config/lazy-quarry/sites/machine.toml")
"""Where it is in the home of whoever works on the head."""
_TRAITS = {"h1": ("wide", "new"), "h2": ("new",), "h3": ("old",), "h4": ("wide", "spare")}
_BEGINNING = f"""# Four hosts as one site. lq site check reads it, lq renew makes a running engine take it.
name = "Slipway"
head = "Tove"

[[storage]]
path = "{SHARED}"
note = "the same folder on the head and on every host"

# People log in here; no job runs.
[[nodes]]
names = "{HEAD}"
host = "local"
cores = {{cores}}
memory = "2 GiB"
runs-jobs = false
"""
_QUEUES = """
[[queues]]
name = "day"
nodes = "h1..h3"
walltime = "4h"
note = "the usual"

[[queues]]
name = "gpu"
nodes = "h1, h3"
walltime = "1d"
note = "for what needs GPUs"

[[queues]]
name = "long"
nodes = "h1..h4"
walltime = "7d"
note = "may wait longer"
"""


def site_text() -> str:
    """The file."""
    cores = len(os.sched_getaffinity(0))
    return _BEGINNING.format(cores=cores) + "".join(map(_table, HOSTS)) + _QUEUES


def _table(host: HostKind) -> str:
    gpus = sum(path.rpartition("/")[2].strip("0123456789") in ("nvidia", "renderD") for path in host.devices)
    lines = ["", "[[nodes]]", f'names = "{host.name}"', f'host = "{host.name}"', f"cores = {len(host.cores)}"]
    lines += ['memory = "2 GiB"', f'scratch = "{host.disk_mib // 2} MiB"']
    lines += [f"gpus = {gpus}"] if gpus else []
    lines += [f"traits = [{', '.join(f'{chr(34)}{each}{chr(34)}' for each in _TRAITS[host.name])}]", ""]
    return "\n".join(lines)

"""``make cluster``: make the hosts, run a command on the head, let faults happen, remove all."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
from collections.abc import Callable
from contextlib import suppress

from cluster.cluster import Cluster, remove_leftovers
from cluster.errors import ClusterError
from cluster.hosts import SHARED

_USE = """make cluster                            open the application on the hosts
make cluster RUN='ssh h3 hostname'      run a command on the head
             KEEP=1                     leave the hosts there after
             CUT=h2    pull its cable out          MEND=h2    all is well again
             SLOW=h2   BY=200ms                    LOSE=h2    BY=30%
             HALF=h2   its words get lost          STOP=h2    nothing runs there
             REBOOT=h2 another boot                CLOCK=h2   BY=-2h
             FULL=h2   no room on its disk         PS=1       what runs on each host
             DOWN=1    remove what is left
Several hosts: CUT=h2,h3. The first word makes the hosts where there are none, but for faults: those need some."""
_TIME = re.compile(r"([+-]?\d+(?:\.\d+)?)(ms|s|m|h|d)$")
_SHARE = re.compile(r"(\d+(?:\.\d+)?)%$")
_SECONDS = {"ms": 0.001, "s": 1, "m": 60, "h": 3600, "d": 86_400}
_FAULTS: dict[str, Callable[[Cluster, str, str], None]] = {
    "MEND": lambda cluster, host, by: cluster.mend(host),
    "REBOOT": lambda cluster, host, by: cluster.reboot(host),
    "CLOCK": lambda cluster, host, by: cluster.clock(host, round(_time(by))),
    "FULL": lambda cluster, host, by: cluster.full(host),
    "SLOW": lambda cluster, host, by: cluster.slow(host, _time(by or "200ms")),
    "LOSE": lambda cluster, host, by: cluster.lose(host, _share(by or "30%")),
    "HALF": lambda cluster, host, by: cluster.half(host),
    "STOP": lambda cluster, host, by: cluster.stop(host),
    "CUT": lambda cluster, host, by: cluster.cut(host),
}
_WORDS = {"KEEP", "RUN", "BY", "PS", "DOWN", *_FAULTS}


def _time(text: str) -> float:
    found = _TIME.match(text)
    if found is None:
        raise ClusterError(f"BY={text}: it takes a time such as BY=-2h, BY=90s or BY=200ms")
    return float(found[1]) * _SECONDS[found[2]]


def _share(text: str) -> float:
    found = _SHARE.match(text)
    if found is None or float(found[1]) > 100:
        raise ClusterError(f"BY={text}: it takes a share such as BY=30%")
    return float(found[1]) / 100


def _asked(arguments: list[str]) -> dict[str, str]:
    """What was asked: NAME=VALUE, or NAME alone for a value in the environment, as make hands its own over."""
    asked = {}
    for argument in arguments:
        name, given, value = argument.partition("=")
        if name not in _WORDS:
            raise ClusterError(f"{name}: no such word\n{_USE}")
        asked[name] = value if given else os.environ.get(name, "")
    return {name: value for name, value in asked.items() if value}


def _carry_out(asked: dict[str, str]) -> int:
    faults = [name for name in _FAULTS if name in asked]
    if "DOWN" in asked:
        removed, used = remove_leftovers()
        for path in removed:
            print(f"removed: {path}", file=sys.stderr)
        for path in used:
            print(f"in use, and removed with the command that uses it: {path}", file=sys.stderr)
        return 0
    if "BY" in asked and not {"CLOCK", "SLOW", "LOSE"} & asked.keys():
        raise ClusterError("BY=: it goes with CLOCK, SLOW or LOSE")
    cluster = Cluster.found()
    if cluster is None and (faults or "PS" in asked) and not asked.keys() & {"RUN", "KEEP"}:
        raise ClusterError("there are no hosts: make cluster, or make cluster KEEP=1 RUN=true, makes them")
    made = cluster is None
    if cluster is None:
        cluster = Cluster.start(kept="KEEP" in asked)
    try:
        for name in faults:
            for host in asked[name].split(","):
                _FAULTS[name](cluster, host, asked.get("BY", ""))
        if "PS" in asked:
            _print_processes(cluster)
        if "RUN" in asked:
            return _run(cluster, ["sh", "-c", asked["RUN"]])
        if not faults and "PS" not in asked and "KEEP" not in asked:
            return _run(cluster, ["sh", "-c", f'cd {SHARED} && exec "$0" -m lazy_quarry', sys.executable])
        if "KEEP" in asked and made:
            print(
                "the hosts are there: make -s cluster RUN='ssh h3 hostname'; make cluster DOWN=1 removes them",
                file=sys.stderr,
            )
        return 0
    finally:
        if made and "KEEP" not in asked:
            cluster.down()


def _run(cluster: Cluster, command: list[str]) -> int:
    """Run a command on the head and end as it ends; keys that interrupt are for it, not for this."""
    running = subprocess.Popen(cluster.on_head(command))
    for number in (signal.SIGINT, signal.SIGQUIT):
        signal.signal(number, signal.SIG_IGN)
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda number, frame: running.send_signal(number))
    return running.wait()


def _print_processes(cluster: Cluster) -> None:
    print("host    pid   user  state  command")
    for host, processes in cluster.processes().items():
        for each in processes:
            print(f"{host:<5} {each.pid:>5} {each.user:>6}  {each.state:<5}  {each.command}")


def main() -> int:
    """Do what the words ask; what can't be done is told on standard error, with 2 as the end."""
    try:
        ended = _carry_out(_asked(sys.argv[1:]))
    except ClusterError as wrong:
        print(f"cluster: {wrong}", file=sys.stderr)
        return 2
    except BrokenPipeError:
        sys.stderr.close()
        return 141
    if ended < 0:  # by a signal: end by the same one
        with suppress(OSError):
            signal.signal(-ended, signal.SIG_DFL)
            os.kill(os.getpid(), -ended)
    return ended if ended >= 0 else 128 - ended


if __name__ == "__main__":
    sys.exit(main())

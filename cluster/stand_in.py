"""What takes SSH's place where there is no root: an SSH server can't change users there, but a namespace can be entered."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from cluster import kernel
from cluster.hosts import HOSTS
from cluster.roots import OWN

_PLACE = Path("/usr/bin/ssh")
_TAKE_A_VALUE = "bcDEeFIiJLlmOopQRSWw"
_SCRIPT = """#!/bin/sh
# It stands where ssh does, on the head of a cluster that was made without root: it enters the host's namespaces.
while [ $# -gt 0 ]; do
    case $1 in
        --) shift; break ;;
        -[{options}]) shift 2 ;;
        -*) shift ;;
        *) break ;;
    esac
done
host=${{1##*@}}
[ $# -gt 0 ] && shift
case $host in
{hosts}
    *) echo "ssh: no host $host here" >&2; exit 255 ;;
esac
[ $# -gt 0 ] || set -- 'exec "$SHELL"'
exec nsenter --target "$pid" --mount --net --pid --uts --ipc --time taskset --cpu-list "$cores" \\
    env -i HOME=/users/root USER=root LOGNAME=root SHELL="$shell" PATH=/usr/local/bin:/usr/bin:/bin \\
    sh -c 'cd && exec "$SHELL" -c "$1"' sh "$*"
"""


def put_in_place(pids: Mapping[str, int]) -> None:
    """Let ``ssh HOST COMMAND`` on the head enter the host with that first process, by the outer numbers."""
    hosts = "".join(
        f"    {each.name}) pid={pids[each.name]} shell={each.login_shell} cores={','.join(map(str, each.cores))} ;;\n"
        for each in HOSTS
    )
    script = OWN / "ssh"
    if not script.exists():
        script.touch(0o755)
        kernel.bind(script, _PLACE)
    script.write_text(_SCRIPT.format(options=_TAKE_A_VALUE, hosts=hosts))
    script.chmod(0o755)

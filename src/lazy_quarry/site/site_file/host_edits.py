"""Hosts put into a site file and taken out again; all else in it stays as it is, comments too."""

import re
from collections.abc import Mapping, Sequence
from typing import Any

import tomlkit
from msgspec import Struct
from tomlkit.exceptions import TOMLKitError

from lazy_quarry.core.site import LOCAL, Node, Site
from lazy_quarry.core.units import parse_names
from lazy_quarry.errors import BadValue, Refused

_PLAIN = re.compile(r"[^A-Za-z0-9._-]+")


class FoundHost(Struct, frozen=True):
    """A host as it was measured: what its table in the site file says. ``host`` is how SSH knows it, ``python`` and ``spool`` are
    empty where the usual ones do.
    """

    node: str
    host: str
    cores: int
    memory_mib: int
    scratch_mib: int = 0
    gpus: int = 0
    traits: tuple[str, ...] = ()
    python: str = ""
    spool: str = ""

    def table(self) -> str:
        """The table as text."""
        values: dict[str, Any] = {
            "names": self.node,
            "host": self.host,
            "cores": self.cores,
            "memory": f"{self.memory_mib} MiB",
            "scratch": f"{self.scratch_mib} MiB" if self.scratch_mib else None,
            "gpus": self.gpus or None,
            "traits": list(self.traits) or None,
            "python": self.python or None,
            "spool": self.spool or None,
        }
        lines = [f"{key} = {tomlkit.item(value).as_string()}" for key, value in values.items() if value is not None]
        return "\n".join(["[[nodes]]", *lines, ""])


def node_name(host: str, taken: Sequence[str]) -> str:
    """A name for the node that a host is: that of the host without user and domain, unlike all that are taken."""
    plain = _PLAIN.sub("-", host.rpartition("@")[2].partition(".")[0]).strip("-.") or "host"
    name, count = plain, 1
    while name in taken:
        count += 1
        name = f"{plain}-{count}"
    return name


def of_this_machine(node: Node) -> FoundHost:
    """The machine that the engine runs on, as a table: without one it would be no node beside others."""
    return FoundHost(node.name, LOCAL, node.cores, node.memory_mib, node.scratch_mib, node.gpus, node.traits)


def hosts_in(site: Site) -> Mapping[str, str]:
    """The nodes of a site by the host that each is."""
    return {node.way.host: node.name for node in site.nodes if node.way is not None}


def with_hosts(text: str, hosts: Sequence[FoundHost], queue: str = "") -> str:
    """A site file's text with tables for hosts at its end; ``queue`` is one that gets them too. Raises :class:`Refused`."""
    if queue:
        document = _document(text)
        found = next((one for one in document.get("queues", ()) if one.get("name") == queue), None)
        if found is None:
            raise Refused(f"the site file has no queue {queue}")
        found["nodes"] = [*_names(found.get("nodes", [])), *(each.node for each in hosts)]
        text = tomlkit.dumps(document)
    apart = "" if not text.strip() else "\n" if text.endswith("\n") else "\n\n"
    return text + apart + "\n".join(each.table() for each in hosts)


def without_host(text: str, node: str) -> str:
    """A site file's text without a node, in its queues too. Raises :class:`Refused` where it can't be taken out."""
    document = _document(text)
    tables = document.get("nodes", [])
    place = next((at for at, one in enumerate(tables) if node in _names(one.get("names", ""))), None)
    if place is None:
        raise Refused(f"the site file has no node {node}")
    left = [name for name in _names(tables[place]["names"]) if name != node]
    if left:
        tables[place]["names"] = left
    else:
        del tables[place]
    for queue in document.get("queues", []):
        names = _names(queue.get("nodes", []))
        if node in names:
            rest = [name for name in names if name != node]
            if not rest:
                raise Refused(
                    f"queue {queue.get('name')} has no other node; give it one, or remove it, in the site file"
                )
            queue["nodes"] = rest
    if not tables:
        document.pop("nodes", None)
    return tomlkit.dumps(document)


def _document(text: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except TOMLKitError as fault:
        raise Refused(f"the site file can't be read: {fault}") from None


def _names(told: Any) -> list[str]:
    """The names that a value of a site file lists, in either of its forms."""
    try:
        return list(parse_names(", ".join(told) if isinstance(told, list) else str(told)))
    except BadValue:
        return []

"""The nodes of a site as an engine runs jobs on them: this machine, and hosts."""

from collections.abc import Callable, Sequence
from pathlib import Path

from lazy_quarry.core.site import Site
from lazy_quarry.run.agent_link import Epochs
from lazy_quarry.run.files_of_nodes import REACHED_S, FilesOfNodes
from lazy_quarry.run.hosts.host_node import HostNode, sockets_of
from lazy_quarry.run.hosts.transport import Ssh, Transport
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node_files import NodeFiles
from lazy_quarry.run.node_link import NodeLink
from lazy_quarry.run.nodes import Nodes
from lazy_quarry.run.remote_files import FilesAtSocket
from lazy_quarry.run.this_node import ThisNode


def nodes_of(
    site: Site,
    folder: Path,
    journal: Epochs,
    processors: Sequence[int],
    closing: Callable[[int], None],
    transport_of: Callable[[str], Transport] = Ssh,
) -> Nodes:
    """The runner of a site whose state is in ``folder``; ``processors`` are those of this machine that its jobs may have.

    ``closing`` is told of the descriptor of a link to an agent before that is closed.
    """
    home = ThisNode(folder, processors, journal, site.name, closing)
    nodes: dict[str, NodeLink] = {}
    for node in site.nodes:
        if node.way is not None and node.remote:
            nodes[node.name] = HostNode(node, node.way, folder, journal, site.name, closing, transport_of)
        else:
            nodes[node.name] = home
    return Nodes(nodes, home, journal.identity, site.kept.attempts_s)


def files_of(site: Site, folder: Path, journal: str, epoch: int) -> FilesOfNodes:
    """The files of a site's jobs, for a process that only reads; it may wait for a host."""
    home = NodeFiles(FileService(folder / "spool"))
    nodes: dict[str, NodeFiles] = {}
    for node in site.nodes:
        there = FilesAtSocket(sockets_of(folder, node.name), node.name, journal, lambda: epoch, REACHED_S)
        nodes[node.name] = NodeFiles(there) if node.remote else home
    return FilesOfNodes(nodes, home)

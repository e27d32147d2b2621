"""The node that the engine itself runs on: an agent that shares a folder with it."""

import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import lazy_quarry
from lazy_quarry.core.job.host import Host
from lazy_quarry.files import ours
from lazy_quarry.run.agent_link import AgentHere, AgentLink, Epochs, taken_words
from lazy_quarry.run.intent import Ground
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node.locks import others_here
from lazy_quarry.run.node.messages import Ask, Beats, FromEngine, Has, Notes, Over, Waits
from lazy_quarry.run.node_files import AttemptsOfNode
from lazy_quarry.run.node_link import LaidOut
from lazy_quarry.run.this_host import this_host

OTHERS_S = 5.0
"""Seconds between looks whether other users' jobs have this machine's cores too."""
HOLDER_S = 1.0
"""Seconds between looks whether another state folder has the cores."""
_LQ = """#!/bin/sh
case "$1" in
phase|ranks|spread)
    [ "$2" = --help ] || exec "{python}" -I -S -c \
        'import sys; sys.path.insert(0, "{root}"); from lazy_quarry.inside.main import leave; leave()' "$@" ;;
esac
exec "{python}" -m lazy_quarry "$@"
"""
"""The command that jobs call: its helpers begin without all that Python looks for at its start."""


class ThisNode:
    """This machine as a node; see :class:`~lazy_quarry.run.node_link.NodeLink`.

    ``folder`` is the state folder of ``site``; core k of the plan is the k-th of ``processors``; ``epochs`` is the journal that
    attempts are in. ``closing`` is told of the descriptor of the link to the agent before that is closed.
    """

    def __init__(
        self,
        folder: Path,
        processors: Sequence[int],
        epochs: Epochs,
        site: str = "",
        closing: Callable[[int], None] = lambda descriptor: None,
    ) -> None:
        self.folder = folder
        spool = folder / "spool"
        spool.mkdir(mode=0o700, exist_ok=True)
        spool.chmod(0o700)
        self.files = AttemptsOfNode(FileService(spool), Ground(folder, processors, epochs.identity))
        self._make_bin()
        self._link = AgentLink(AgentHere(folder), site, epochs, closing)
        self._others_seen: tuple[float, list[str]] = (0.0, [])
        self._holder_seen: tuple[float, str] = (-HOLDER_S, "")

    def _make_bin(self) -> None:
        """A folder that holds just ``lq``, for the end of a job's PATH."""
        folder = self.folder / "bin"
        folder.mkdir(exist_ok=True)
        target = folder / "lq"
        text = _LQ.format(python=sys.executable, root=Path(lazy_quarry.__file__).parent.parent)
        try:
            known = ours.read_text(target)
        except OSError:
            known = ""
        if known != text:  # the folder may be older than this program's place
            ours.write_whole(target, text, durable=False, mode=0o700)

    # -- its agent ---------------------------------------------------------------------------------

    @property
    def epoch(self) -> int:
        """The number of this start of an engine."""
        return self._link.epochs.epoch

    @property
    def connected(self) -> bool:
        """True while there is a link to an agent."""
        return self._link.connected

    @property
    def answers(self) -> bool:
        """It does."""
        return True

    @property
    def refused(self) -> str:
        """Why there is no agent."""
        return self._link.refused

    @property
    def superseded(self) -> bool:
        """True when another engine of this site has taken this one's place."""
        return self._link.superseded

    @property
    def quiet_since_ms(self) -> int | None:
        """It is never quiet: the engine runs on it."""
        return None

    @property
    def lease_s(self) -> None:
        """Its jobs go on as long as they like."""

    @property
    def silent_s(self) -> float:
        """It is never silent."""
        return 0.0

    @property
    def unlike(self) -> str:
        """It is what was found at the engine's start."""
        return ""

    @property
    def ahead_ms(self) -> int:
        """Its clock is the engine's own."""
        return 0

    @property
    def host(self) -> Host:
        """This machine."""
        return this_host()

    def sees(self, folder: str) -> bool:
        """They are its own."""
        return True

    def state(self) -> None:
        """It is the engine's own."""

    def descriptors(self) -> list[int]:
        """The link to the agent, to wait on."""
        link = self._link.fileno()
        return [] if link is None else [link]

    def greeting(self, then: Callable[[], None]) -> None:
        """Have this done whenever an agent has taken up this engine."""
        self._link.greet = then

    def connect(self) -> None:
        """Reach the agent, or start one."""
        self._link.connect()

    def connect_again(self) -> None:
        """The same, unless it was tried a moment ago."""
        self._link.connect_again()

    def keep(self, wanted: bool) -> None:
        """Keep an agent while one is wanted."""
        self._link.reap()
        if wanted:
            self._link.connect_again()

    def leave(self) -> None:
        """Let the agent leave."""
        self._link.refused = ""
        self._link.drop()

    def close(self) -> None:
        """Its link ends with the engine's process."""

    def send(self, message: FromEngine) -> None:
        """Send a message."""
        self._link.send(message)

    def heard(self) -> list[Ask | Over | Waits | Notes | Has | LaidOut]:
        """Messages that have come since the last time. What else runs here is of no engine's: a copy of the folder may have it."""
        return [message for message in self._link.heard() if not isinstance(message, (Has, Beats))]

    # -- what is in the way ------------------------------------------------------------------------

    def obstacle(self) -> str:
        """Another state folder whose jobs have this machine's cores, or why there is no agent."""
        now = time.monotonic()
        if now - self._holder_seen[0] > HOLDER_S:
            words = taken_words(self.folder / "spool") or ("" if self.connected else self.refused)
            self._holder_seen = now, words
        return self._holder_seen[1]

    def notices(self) -> list[str]:
        """Why nothing can be started, and who else has its cores."""
        told = [self.refused] if self.refused else []
        if others := self._others():
            told.append(f"jobs of {', '.join(others)} use this machine's cores too; nobody divides them between users")
        return told

    def _others(self) -> list[str]:
        now = time.monotonic()
        if now - self._others_seen[0] > OTHERS_S:
            self._others_seen = now, others_here()
        return self._others_seen[1]

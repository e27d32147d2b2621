"""A host as a node: its agent by the line, its files by threads of its own, and whether it answers."""

import os
import time
from collections.abc import Callable
from pathlib import Path

from lazy_quarry.core.job.host import Host
from lazy_quarry.core.site import HostWay, Node
from lazy_quarry.core.units import format_size, off_words, plural
from lazy_quarry.run.agent_link import AgentLink, Epochs
from lazy_quarry.run.hosts.host_files import HostFiles
from lazy_quarry.run.hosts.line import AgentThere, Line
from lazy_quarry.run.hosts.transport import Ssh, Transport
from lazy_quarry.run.intent import Ground
from lazy_quarry.run.node.messages import Ask, Beat, Beats, FromEngine, Has, Notes, Over, Waits
from lazy_quarry.run.node.process import wall_ms
from lazy_quarry.run.node_link import LaidOut
from lazy_quarry.run.runner import HostState

BEAT_S = 5.0
"""Seconds between questions whether it is there."""


LATE_MS = 60_000
"""A clock that is off by more is told."""
ASKED_S = 2.0
"""An agent that was greeted says within this time what is alive there."""


def quiet_s() -> float:
    """Seconds after which a host that said nothing is told to be quiet, and the connection made anew; tests set ``LQ_QUIET``."""
    return float(os.environ.get("LQ_QUIET", "20"))


SEND_S = 0.05
"""Its line takes what is said at once, unless the host takes nothing any more."""
LITTLE = 0.9
"""Less of the memory than this part of what the site says is less; the system itself takes a little more or less of it."""


def sockets_of(folder: Path, node: str) -> Path:
    """The folder with the sockets that lead to a node, in a state folder."""
    return folder / "hosts" / node


class HostNode:
    """A host that is reached by SSH; see :class:`~lazy_quarry.run.node_link.NodeLink`.

    ``folder`` is the state folder of the site. ``closing`` is told of the descriptor of a link before that is closed.
    """

    def __init__(
        self,
        node: Node,
        way: HostWay,
        folder: Path,
        epochs: Epochs,
        site: str = "",
        closing: Callable[[int], None] = lambda descriptor: None,
        transport_of: Callable[[str], Transport] = Ssh,
    ) -> None:
        self.node, self.way, self._folder, self._epochs = node, way, folder, epochs
        self.line = Line(transport_of(way.host), sockets_of(folder, node.name), epochs.identity, way.python, way.spool)
        self._link = AgentLink(AgentThere(self.line), site, epochs, closing, SEND_S)
        self.files = HostFiles(self.line, self._ground, lambda: epochs.epoch, lambda: self.ahead_ms, way)
        self._ahead_ms = 0
        self._closest_s, self._measured = float("inf"), False
        self._heard_at, self._heard_ms = time.monotonic(), wall_ms()
        self._quiet, self._quiet_s = False, quiet_s()
        self._let_go = False
        """Nothing runs there or waits, so there need be no agent."""
        self._asked_on, self._asked_at = 0, 0.0
        """The connection on which its agent was asked what is alive there, and when."""
        self._beat_at = 0.0
        self._worked: tuple[float, float] | None = None
        """When it was asked last, and its seconds of work then."""
        self._busy: float | None = None
        self.line.start()

    def close(self) -> None:
        """End what keeps it in touch; the agent there goes on."""
        self._link.drop()
        self.files.close()
        self.line.close()

    def _ground(self) -> Ground:
        """Where attempts are there. Raises :class:`ConnectionError` while nobody knows."""
        told = self.line.greeting
        if not told:
            raise ConnectionError(f"{self.node.name} does not answer")
        spool, archive = Path(told["spool"]), told["archive"]
        return Ground(
            folder=spool.parent,
            processors=told["processors"],
            journal=self._epochs.identity,
            spool=spool,
            commands=Path(told["commands"]),
            python=f"{archive}/lazy_quarry/inside/python",
            state=self._folder,
            lease_s=self.way.lease_s,
        )

    # -- its agent ---------------------------------------------------------------------------------

    @property
    def epoch(self) -> int:
        """The number of this start of an engine."""
        return self._epochs.epoch

    @property
    def connected(self) -> bool:
        """True while there is an agent that listens."""
        return self._link.welcome

    @property
    def ahead_ms(self) -> int:
        """Milliseconds that its clock is ahead, by the answer that came quickest of the last ones; before that, by the greeting."""
        return self._ahead_ms if self._measured else self.line.ahead_ms

    @property
    def answers(self) -> bool:
        """True while somebody answers there: its agent, or where none is wanted the other end of the line."""
        return self.connected or (self._let_go and self.line.connected)

    @property
    def refused(self) -> str:
        """Why there is no agent."""
        return self._link.refused

    @property
    def superseded(self) -> bool:
        """True when another engine of this site has taken this one's place."""
        return self._link.superseded

    @property
    def host(self) -> Host | None:
        """The machine as it said itself."""
        told = self.line.greeting
        if not told:
            return None
        limits = "groups" if told["groups"] else "watched"
        name, kernel, processor = told["host"]
        return Host(name, kernel, processor, limits, str(told["greeting"]), str(told["python"]))

    @property
    def quiet_since_ms(self) -> int | None:
        """Since when it has not answered, where that is long ago."""
        return self._heard_ms if self._quiet else None

    @property
    def lease_s(self) -> int | None:
        """Seconds after the last word of an engine when its attempts are stopped there."""
        return self.way.lease_s

    @property
    def silent_s(self) -> float:
        """Seconds since it was heard last."""
        return time.monotonic() - self._heard_at

    @property
    def unlike(self) -> str:
        """Cores, memory or GPUs that it has less of than the site says.

        GPUs are compared where device files of a known kind have been seen there: those of other kinds aren't found.
        """
        told = self.line.greeting
        if told and len(told["processors"]) < self.node.cores:
            return f"it has {plural(len(told['processors']), 'core')}, and the site file says {self.node.cores}"
        if told and (told.get("memory_mib") or self.node.memory_mib) < LITTLE * self.node.memory_mib:
            has, said = format_size(told["memory_mib"]), format_size(self.node.memory_mib)
            return f"it has {has} of memory, and the site file says {said}"
        if told and told.get("gpus_once") and told["gpus"] < self.node.gpus:
            return f"it has {plural(told['gpus'], 'GPU')}, and the site file says {self.node.gpus}"
        return ""

    def sees(self, folder: str) -> bool | None:
        """True when it sees a folder of the engine's machine."""
        return self.files.sees(folder)

    def state(self) -> HostState:
        """Describe it for people."""
        told = self.line.greeting
        return HostState(
            node=self.node.name,
            host=self.way.host,
            answers=self.answers and not self._quiet,
            quiet_since_ms=self.quiet_since_ms,
            problem=self.line.problem or self.refused,
            ahead_ms=self.ahead_ms if told else None,
            busy=self._busy,
            version=str(told.get("greeting", "")),
            python=str(told.get("python", "")),
            groups=tuple(told.get("groups", ())),
            folder=str(Path(told["spool"]).parent) if told else "",
            copied_a_second=self.files.copied_a_second,
        )

    def descriptors(self) -> list[int]:
        """The link to the agent, and what says that something was done there."""
        link = self._link.fileno()
        return [self.files.woken] if link is None else [self.files.woken, link]

    def greeting(self, then: Callable[[], None]) -> None:
        """Have this done whenever an agent has taken up this engine."""
        self._link.greet = then

    def connect(self) -> None:
        """Reach the agent, where there is a line."""
        self._link.connect()

    def connect_again(self) -> None:
        """The same, unless it was tried a moment ago."""
        self._link.connect_again()

    def keep(self, wanted: bool) -> None:
        """Stay in touch: with the agent while something runs or waits, else by the line alone."""
        now = time.monotonic()
        if wanted:
            self._let_go = False
        if self._let_go and self.line.connected:
            self._answers()
        # Whoever was away may have gone on with what was given up meanwhile: that is told when its agent is greeted.
        if not self._let_go or self._asked_on != self.line.count:
            self.connect_again()
        if self.connected and now - self._beat_at >= min(BEAT_S, self._quiet_s / 3):
            self._beat_at = now
            self.send(Beat(self.epoch, now))
        if now - self._heard_at > self._quiet_s:
            if self.connected:  # the line is there, and nobody at its other end
                self._link.drop()
                self.line.anew()
            self._quiet = True

    def leave(self) -> None:
        """Let its agent leave, which has the cores of its host for this site; whether the host answers is told by the line."""
        if self.connected and self._asked_on != self.line.count:
            self._asked_on, self._asked_at = self.line.count, time.monotonic()
        self._let_go = True
        if self.connected and time.monotonic() - self._asked_at > ASKED_S:
            self._busy, self._worked = None, None
            self._link.drop()
        if not self.connected:
            self.files.rest()

    def send(self, message: FromEngine) -> None:
        """Send a message."""
        self._link.send(message)

    def heard(self) -> list[Ask | Over | Waits | Notes | Has | LaidOut]:
        """Messages that have come since the last time, and what was laid out."""
        found: list[Ask | Over | Waits | Notes | Has | LaidOut] = [*self.files.heard()]
        for message in self._link.heard():
            self._answers()
            if isinstance(message, Beats):
                self._compare(message)
            else:
                found.append(message)
        if self.connected and self._quiet:
            self._answers()
        return found

    def _answers(self) -> None:
        self._heard_at, self._heard_ms, self._quiet = time.monotonic(), wall_ms(), False

    def _compare(self, message: Beats) -> None:
        """Compare its clock with this machine's, as exactly as the answer was quick."""
        took = time.monotonic() - message.sent
        if took <= self._closest_s:
            self._closest_s, self._measured = took, True
            self._ahead_ms = round(message.clock_ms - wall_ms() + 1000 * took / 2)
        if self._worked is not None and message.sent > self._worked[0] and message.busy_s >= self._worked[1]:
            self._busy = (message.busy_s - self._worked[1]) / (message.sent - self._worked[0])
        self._worked = message.sent, message.busy_s
        self._closest_s *= 1.1  # later answers count too: clocks drift, and are set

    # -- what is in the way ------------------------------------------------------------------------

    def obstacle(self) -> str:
        """Why nothing can start there."""
        return self.line.problem or self.refused

    def notices(self) -> list[str]:
        """Why it isn't reached, why nothing can start there, and how far its clock is off."""
        told = []
        if words := self.line.problem or self.refused:
            told.append(f"{self.node.name}: {words}")
        if words := self.files.problem:
            told.append(f"{self.node.name}: {words}")
        if self.answers and abs(self.ahead_ms) > LATE_MS:
            told.append(f"{self.node.name}: its clock is {off_words(self.ahead_ms)}; the books go by this machine's")
        return told

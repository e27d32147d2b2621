"""A model of how an engine has jobs run on a node that it reaches by messages alone, to be explored before the code.

Everything that may go wrong between two steps is a step of its own: messages are lost, repeated, late and in any order; engine,
agent, supervisor and node end between any two steps; a journal is put back to what it was; an older engine comes back.

What must hold, whatever happens:

- a script of an attempt is begun at most once;
- an attempt has exactly one end in a journal, and none before the script is over for good;
- no attempt of a job runs while an earlier one of it may still run.

``Rules`` are the decisions that this hangs on. With any of them turned off the model must find a history that breaks a promise.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

LEASE = 4
"""Ticks that a supervisor goes on without having heard from its engine."""
MOST_JOBS, MOST_ATTEMPTS, MOST_MESSAGES = 2, 3, 12


Name = tuple[int, int]
"""Job and attempt."""
CHANCE = st.integers(0, 2**16)


@dataclass(frozen=True)
class Rules:
    """Decisions of the protocol."""

    refuses_lower_epochs: bool = True
    """An agent remembers the highest epoch for good, and takes no message of a lower one."""
    remembers_settled: bool = True
    """An agent remembers for good which attempts were settled in this epoch, so that a late start of one begins nothing."""
    claims_before_it_starts: bool = True
    """A supervisor claims an attempt for good, and alone, before its script begins."""
    lease_from_request: bool = True
    """A lease counts from when the supervisor asked for it, not from when the answer came."""
    leased_before_it_begins: bool = True
    """A script begins when its supervisor has asked for a lease and has it: a start that comes late brings none."""
    waits_for_last_answer: bool = True
    """An engine counts a lease from the last answer that it sent, whether that came or not."""
    ends_after_orphans: bool = True
    """An agent tells that an attempt is lost when nothing of it is left, not when its supervisor has gone."""


# -- messages: each says of which engine and epoch it is ------------------------------------------------------------------------


@dataclass(frozen=True)
class Message:
    epoch: int
    name: Name = (0, 0)
    """Job and attempt."""


class Ensure(Message):
    """Engine to agent: begin this attempt, unless it was begun."""


class Settle(Message):
    """Engine to agent: its end is in the journal, so its records may go."""


class Over(Message):
    """Agent to engine: nothing of it is left."""


@dataclass(frozen=True)
class Ask(Message):
    """Supervisor to engine, through the agent: a lease from this instant on, by its own clock."""

    at: int = 0


@dataclass(frozen=True)
class Renew(Message):
    """The answer to that, and when it was sent."""

    at: int = 0
    sent: int = 0


@dataclass(frozen=True)
class Came(Message):
    """That an answer came, which was sent at this instant."""

    sent: int = 0


# -- what is durable, and what isn't --------------------------------------------------------------------------------------------


@dataclass
class Journal:
    """What is on the engine's disk."""

    epoch: int = 0
    started: dict[Name, int] = field(default_factory=dict)
    """Attempts, and when each was recorded."""
    ended: set[Name] = field(default_factory=set)

    def copy(self) -> "Journal":
        return Journal(self.epoch, dict(self.started), set(self.ended))


@dataclass
class Engine:
    """An engine's memory."""

    journal: Journal
    epoch: int
    answered: dict[Name, int] = field(default_factory=dict)
    """When it sent the last answer about an attempt, or began to count."""
    came: dict[Name, int] = field(default_factory=dict)
    """When it sent the last answer that is known to have come."""


@dataclass
class Record:
    """An attempt's folder on the node's disk."""

    claimed: bool = False
    over: bool = False


@dataclass
class Running:
    """A supervisor and its script: what is lost when the node ends."""

    name: Name
    supervisor: bool = True
    claims: bool = False
    """It has the claim."""
    script: bool = False
    begun: bool = False
    leased: int | None = None
    """The instant from which its lease counts; None while it has none."""


class Node(RuleBasedStateMachine):
    """One engine's journal, one node, and the messages between them.

    What can be done is listed anew at each step: ``goes_on`` does what would happen by itself, ``goes_wrong`` one of the rest.
    """

    kept = Rules()
    jobs = MOST_JOBS

    def __init__(self) -> None:
        super().__init__()
        self.now = 0
        self.journal = Journal()
        self.copied: Journal | None = None
        self.engines = list[Engine]()
        """The last is the present one; earlier ones may come back, as from a paused machine."""
        self.to_node, self.to_engine = list[Any](), list[Any]()
        self.agent, self.highest = True, 0
        self.watched: set[Name] = set()
        """Attempts whose supervisors the agent has begun or found: forgotten with it, until they have claimed."""
        self.records: dict[Name, Record] = {}
        self.settled: set[Name] = set()
        self.running: list[Running] = []
        # what is looked at from outside
        self.begun: dict[Name, int] = {}
        self.ends: dict[Name, int] = {}
        self.broken = ""
        self.trail = list[str]()
        """What has happened, for whoever reads how a promise was broken."""
        self.engine_starts()

    @rule(chance=CHANCE)
    def goes_on(self, chance: int) -> None:
        """What happens by itself."""
        self.do(chance, [*self.engine_steps(), *self.messages_come(), *self.node_steps()])

    @rule(chance=CHANCE)
    def goes_on_too(self, chance: int) -> None:
        """The same once more: most of what happens is in order."""
        self.goes_on(chance)

    @rule()
    def a_tick(self) -> None:
        """Time passes."""
        self.do(0, [self.time_passes])

    @rule(chance=CHANCE)
    def goes_wrong(self, chance: int) -> None:
        """What must not happen, and does."""
        self.do(chance, [*self.messages_stray(), *self.ends_and_returns()])

    def do(self, chance: int, steps: list[Callable[[], object]]) -> None:
        """One of some steps."""
        if steps:
            step = steps[chance % len(steps)]
            given = ", ".join(map(str, getattr(step, "args", ())))
            self.trail.append(f"{self.now}: {getattr(getattr(step, 'func', step), '__name__', step)} {given}")
            step()

    # -- the engine -----------------------------------------------------------------------------------

    def engine_steps(self) -> Iterator[Callable[[], object]]:
        """What the present engine can do."""
        if not self.engines:
            yield self.engine_starts
            return
        engine = self.engines[-1]
        for job in range(1, self.jobs + 1):
            known = [one for one in engine.journal.started if one[0] == job]
            if len(known) < MOST_ATTEMPTS and all(one in engine.journal.ended for one in known):
                yield partial(self.attempt_starts, engine, (job, len(known) + 1))
        for name, at in engine.journal.started.items():
            counted = engine.answered if self.kept.waits_for_last_answer else engine.came
            if name not in engine.journal.ended and self.now > counted.get(name, at) + LEASE:
                yield partial(self.end, engine, name)  # out of reach for longer than its lease
        if len(self.to_node) < 2:
            yield partial(self.repeats_itself, engine)

    def engine_starts(self) -> None:
        """A new one. What an earlier one answered last isn't known: it may have been just now."""
        self.journal.epoch += 1
        engine = Engine(self.journal, self.journal.epoch)
        self.engines = [*self.engines[-2:], engine]
        engine.answered = {one: self.now for one in self.journal.started if one not in self.journal.ended}
        self.repeats_itself(engine)

    def repeats_itself(self, engine: Engine) -> None:
        """As on a new connection: all that should run, and all that is settled."""
        for name in engine.journal.started:
            self.send((Settle if name in engine.journal.ended else Ensure)(engine.epoch, name))

    def attempt_starts(self, engine: Engine, name: Name) -> None:
        """The next attempt of a job, when the engine takes the last one to be over."""
        engine.journal.started[name] = engine.answered[name] = self.now
        if any(one.name[0] == name[0] and one.script for one in self.running):
            self.broken = f"{name} was started while an earlier attempt ran"
        self.send(Ensure(engine.epoch, name))

    def end(self, engine: Engine, name: Name) -> None:
        """Record an end."""
        if name in engine.journal.ended or name not in engine.journal.started:
            return
        engine.journal.ended.add(name)
        self.ends[name] = self.ends.get(name, 0) + 1
        if any(one.name == name and one.script for one in self.running):
            self.broken = f"{name} was ended while it ran"

    # -- messages -------------------------------------------------------------------------------------

    def send(self, message: Any) -> None:
        self.to_node = [*self.to_node[-MOST_MESSAGES:], message]

    def tell(self, message: Any) -> None:
        self.to_engine = [*self.to_engine[-MOST_MESSAGES:], message]

    def messages_come(self) -> Iterator[Callable[[], object]]:
        """In any order, or late: any of them may be the next."""
        for message in self.to_node:
            yield partial(self.comes_to_node, message)
        for message in self.to_engine:
            yield partial(self.comes_to_engine, message)

    def messages_stray(self) -> Iterator[Callable[[], object]]:
        """Lost, or there once more."""
        for message in self.to_node:
            yield partial(self.to_node.remove, message)
            yield partial(self.send, message)
        for message in self.to_engine:
            yield partial(self.to_engine.remove, message)
            yield partial(self.tell, message)

    def comes_to_engine(self, message: Any) -> None:
        self.to_engine.remove(message)
        if not self.engines:
            return
        engine = self.engines[-1]
        if isinstance(message, Over):
            self.end(engine, message.name)
            self.send(Settle(engine.epoch, message.name))
        elif isinstance(message, Came):
            engine.came[message.name] = max(message.sent, engine.came.get(message.name, 0))
        elif message.name in engine.journal.started and message.name not in engine.journal.ended:
            engine.answered[message.name] = self.now
            self.send(Renew(engine.epoch, message.name, message.at, self.now))

    def comes_to_node(self, message: Any) -> None:
        self.to_node.remove(message)
        if not self.agent or (self.kept.refuses_lower_epochs and message.epoch < self.highest):
            return
        if message.epoch > self.highest:
            self.highest, self.settled = message.epoch, set()  # nothing of an earlier epoch is taken any more
        name = message.name
        here = [one for one in self.running if one.name == name]
        if isinstance(message, Renew):
            for one in here:
                one.leased = max(one.leased or 0, message.at if self.kept.lease_from_request else self.now)
                self.tell(Came(self.highest, name, message.sent))
        elif isinstance(message, Settle):
            if not here:
                self.records.pop(name, None)
                self.watched.discard(name)
            if self.kept.remembers_settled:
                self.settled.add(name)
        elif name not in self.settled:
            record = self.records.setdefault(name, Record())
            if record.over or (record.claimed and not here):
                record.over = True
                self.tell(Over(self.highest, name))
            elif not record.claimed and name not in self.watched:
                self.watched.add(name)
                self.running.append(Running(name, leased=None if self.kept.leased_before_it_begins else self.now))

    # -- the node -------------------------------------------------------------------------------------

    def node_steps(self) -> Iterator[Callable[[], object]]:
        """What supervisors, scripts and the agent can do."""
        if not self.agent:
            yield self.agent_starts
        for one in self.running:
            record = self.records.setdefault(one.name, Record())
            if not one.supervisor:
                if self.agent:
                    yield partial(self.orphan_ends, one, record)
            elif not one.claims:
                yield partial(self.claims, one, record)
            elif not one.begun:
                if one.leased is not None:
                    yield partial(self.begins, one)
            else:
                yield partial(self.finishes, one, record)
            if one.supervisor and one.claims:
                if len(self.to_engine) < 3:
                    yield partial(self.tell, Ask(self.highest, one.name, self.now))

    def agent_starts(self) -> None:
        self.agent = True

    def claims(self, one: Running, record: Record) -> None:
        if record.claimed and self.kept.claims_before_it_starts:
            self.running.remove(one)  # another has it
        else:
            record.claimed = one.claims = True

    def begins(self, one: Running) -> None:
        one.begun = one.script = True
        self.begun[one.name] = self.begun.get(one.name, 0) + 1

    def finishes(self, one: Running, record: Record) -> None:
        record.over = True
        self.running.remove(one)
        if self.agent:
            self.tell(Over(self.highest, one.name))

    def orphan_ends(self, one: Running, record: Record) -> None:
        """The agent sees that a supervisor has gone: all that it left is ended, and then that is told."""
        if self.kept.ends_after_orphans or not one.script:
            self.running.remove(one)
        if record.claimed:
            record.over = True
            self.tell(Over(self.highest, one.name))

    def time_passes(self) -> None:
        """A tick: supervisors whose lease is over end their scripts at once, by their own clocks."""
        self.now += 1
        for one in list(self.running):
            if one.supervisor and one.leased is not None and self.now > one.leased + LEASE:
                self.running.remove(one)
                if one.claims:
                    self.records.setdefault(one.name, Record()).over = True

    # -- what ends, and what comes back ---------------------------------------------------------------

    def ends_and_returns(self) -> Iterator[Callable[[], object]]:
        """Whatever may end or come back, between any two steps."""
        if self.engines:
            yield self.engines.pop  # it ends; an earlier one that was only paused goes on
            yield self.engine_starts
            yield self.journal_is_copied
        if self.copied is not None:
            yield self.journal_is_put_back
        yield self.agent_ends
        yield self.node_ends
        for one in self.running:
            if one.supervisor:
                yield partial(setattr, one, "supervisor", False)  # killed; its script is left behind

    def journal_is_copied(self) -> None:
        self.copied = self.journal.copy()

    def journal_is_put_back(self) -> None:
        """Somebody makes the copy a site of its own: its epochs go on beyond those that the node knows.

        What the copy doesn't know has other marks than whatever it starts, and is nothing to it; what it knows as live may have
        ended, and what it knows as ended has. So here names that were used since stay used.
        """
        assert self.copied is not None
        back = self.copied.copy()
        back.epoch = max(back.epoch, self.highest, self.journal.epoch)
        for name, at in self.journal.started.items():
            if back.started.setdefault(name, at) is not None and name in self.journal.ended:
                back.ended.add(name)
        self.journal, self.engines = back, []

    def agent_ends(self) -> None:
        self.agent, self.watched = False, set()

    def node_ends(self) -> None:
        """All that runs is gone; what is on its disk stays."""
        self.agent, self.running, self.watched = False, [], set()

    # -- what must hold -------------------------------------------------------------------------------

    @invariant()
    def nothing_is_broken(self) -> None:
        assert not self.broken, "\n".join([self.broken, *self.trail])

    @invariant()
    def a_script_is_begun_at_most_once(self) -> None:
        assert all(count == 1 for count in self.begun.values()), "\n".join([str(self.begun), *self.trail])

    @invariant()
    def an_attempt_has_one_end(self) -> None:
        assert all(count == 1 for count in self.ends.values()), "\n".join([str(self.ends), *self.trail])


def without(name: str) -> Rules:
    """The rules without one of them."""
    return replace(Rules(), **{name: False})

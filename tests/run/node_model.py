"""A model of how an engine has jobs run on a node that it reaches by messages alone, to be explored before the code.

Everything that may go wrong between two steps is a step of its own: messages are lost, repeated, late and in any order; engine,
agent, supervisor and node end between any two steps; a journal is put back to what it was; an older engine comes back.

What must hold, whatever happens:

- a script of an attempt is begun at most once;
- an attempt has exactly one end in a journal, and none before the script is over for good;
- no attempt of a job runs while an earlier one of it may still run.

It does not hold where somebody kills an attempt's supervisor *and* the agent within one lease: then nobody is left on the node who
would end what was left behind.

``Rules`` are the decisions that this hangs on. With any of them turned off the model must find a history that breaks a promise.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import partial
from random import Random
from typing import Any

from lazy_quarry.run.node.attempt import Exit
from lazy_quarry.run.node.messages import Ask, Ensure, Hello, Over, Renew, Settle, Welcome

LEASE = 4
"""Ticks that a supervisor goes on without having heard from its engine."""
MOST_ATTEMPTS, MOST_MESSAGES = 3, 12


def named(job: int, attempt: int) -> str:
    """The name of an attempt."""
    return f"{job}-{attempt}"


def job_of(name: str) -> int:
    """The job of an attempt."""
    return int(name.partition("-")[0])


@dataclass(frozen=True)
class Rules:
    """Decisions of the protocol."""

    refuses_lower_epochs: bool = True
    """An agent remembers the highest epoch for good, and takes no message of a lower one."""
    journal_refuses_lower_epochs: bool = True
    """A journal takes nothing from an engine after another has started, and an engine says nothing that it could not record."""
    counts_from_welcome: bool = True
    """An engine counts leases from when the agent has taken its epoch: until then an earlier one may go on renewing them."""
    folder_before_the_start: bool = True
    """Without leases: an attempt's folder is made before its start is recorded, so that a late start of one that was settled
    finds none, and begins nothing."""
    claims_before_it_starts: bool = True
    """A supervisor claims an attempt for good, and alone, before its script begins."""
    lease_from_request: bool = True
    """A lease counts from when the supervisor asked for it, not from when the answer came."""
    leased_before_it_begins: bool = True
    """A script begins when its supervisor has asked for a lease and has it: a start that comes late brings none."""
    begins_within_its_lease: bool = True
    """A script begins while its lease lasts: an answer may come when it is over."""
    waits_for_last_answer: bool = True
    """An engine counts a lease from the last answer that it sent, whether that came or not."""
    ends_after_orphans: bool = True
    """An agent tells that an attempt is lost when nothing of it is left, not when its supervisor has gone."""


# -- beside the messages of the protocol ----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Answer(Renew):
    """A renewal, and when it was sent."""

    sent: int = 0


@dataclass(frozen=True)
class Came:
    """That a renewal came, which was sent at this instant: nothing that the protocol needs."""

    name: str
    sent: int


NOTHING = Exit(0, 0)
"""Any end: the model looks at whether it ended, not at how."""


# -- what is durable, and what isn't --------------------------------------------------------------------------------------------


@dataclass
class Journal:
    """The events on the engine's disk."""

    epoch: int = 0
    started: dict[str, int] = field(default_factory=dict)
    """Attempts, and when each was recorded."""
    ended: set[str] = field(default_factory=set)

    def copy(self) -> "Journal":
        """Another one that says the same."""
        return Journal(self.epoch, dict(self.started), set(self.ended))


@dataclass
class Engine:
    """An engine's memory."""

    known: Journal
    """The journal as the engine knows it."""
    epoch: int
    welcome: int | None = None
    """When it heard that the agent has taken its epoch."""
    answered: dict[str, int] = field(default_factory=dict)
    """When it sent the last answer about an attempt, or began to count."""
    came: dict[str, int] = field(default_factory=dict)
    """When it sent the last answer that is known to have come."""


@dataclass
class Record:
    """An attempt's folder on the node's disk."""

    claimed: bool = False
    over: bool = False


@dataclass
class Running:
    """A supervisor and its script: what is lost when the node ends."""

    name: str
    supervisor: bool = True
    claims: bool = False
    """It has the claim."""
    script: bool = False
    begun: bool = False
    leased: int | None = None
    """The instant from which its lease counts; None while it has none."""
    since: float = 0
    """When it came into being: it takes no answer to what was asked before, by another supervisor of its attempt."""


class Broken(AssertionError):
    """A promise was broken; the message has what had happened."""


class World:
    """One engine's journal, one node, and the messages between them.

    What can be done is listed anew at each step, and a number chooses: ``goes_on`` does what would happen by itself, ``goes_wrong``
    one of the rest.
    """

    def __init__(self, kept: Rules, jobs: int, leases: bool) -> None:
        """``leases``: attempts go on as long as an engine renews that; else for ever, as on an engine's own machine."""
        self.kept, self.jobs, self.leases = kept, jobs, leases
        self.now, self.steps = 0, 0
        self.journal = Journal()
        self.copied: Journal | None = None
        self.engines = list[Engine]()
        """The last is the present one; one before it may go on, as on a machine that was out of reach, or paused."""
        self.to_node, self.to_engine = list[Any](), list[Any]()
        self.agent, self.highest = True, 0
        self.watched: set[str] = set()
        """Attempts whose supervisors the agent has begun or found: forgotten with it, until they have claimed."""
        self.records: dict[str, Record] = {}
        self.running: list[Running] = []
        # what is looked at from outside
        self.begun: dict[str, int] = {}
        self.ends: dict[str, int] = {}
        self.broken = ""
        self.trail = list[tuple[int, Callable[[], object]]]()
        """All steps so far, for whoever reads how a promise was broken."""
        self.engine_starts()

    def goes_on(self, chance: int) -> None:
        """Steps that happen by themselves."""
        self._do(chance, [*self.engine_steps(), *self.messages_come(), *self.node_steps()])

    def goes_wrong(self, chance: int) -> None:
        """Faults: steps that happen to it."""
        self._do(chance, [*self.messages_stray(), *self.ends_and_returns()])

    def a_tick(self) -> None:
        """Time passes."""
        self._do(0, [self.time_passes])

    def _do(self, chance: int, steps: list[Callable[[], object]]) -> None:
        if steps:
            step = steps[chance % len(steps)]
            self.steps += 1
            self.trail.append((self.now, step))
            step()
            self._look()

    def instant(self) -> float:
        """The node's clock, which is much finer than what leases are counted in: no two steps have the same."""
        return self.now + self.steps / 1e6

    def _look(self) -> None:
        """Check what must hold. Raises :class:`Broken`."""
        many = [name for name, count in self.begun.items() if count > 1]
        ended = [name for name, count in self.ends.items() if count > 1]
        told = [self.broken, *(f"{name} was begun twice" for name in many), *(f"{name} ended twice" for name in ended)]
        if any(told):
            raise Broken("\n".join([*filter(None, told), *(f"{at}: {_words(step)}" for at, step in self.trail)]))

    # -- the engine -----------------------------------------------------------------------------------

    def engine_steps(self) -> Iterator[Callable[[], object]]:
        """Steps that engines can take."""
        if not self.engines:
            yield self.engine_starts
        for engine in self.engines:
            known = engine.known
            for job in range(1, self.jobs + 1):
                attempts = [one for one in known.started if job_of(one) == job]
                if len(attempts) < MOST_ATTEMPTS and all(one in known.ended for one in attempts):
                    yield partial(self.attempt_starts, engine, named(job, len(attempts) + 1))
            for name in known.started:
                if name not in known.ended and self.is_out_of_reach(engine, name):
                    yield partial(self.end, engine, name)
            if len(self.to_node) < 2:
                yield partial(self.repeats_itself, engine)

    def is_out_of_reach(self, engine: Engine, name: str) -> bool:
        """True when an engine takes an attempt to be over because nothing renews its lease any more."""
        counted = engine.answered if self.kept.waits_for_last_answer else engine.came
        since = counted.get(name, engine.known.started[name])
        if not self.leases:
            return False
        if self.kept.counts_from_welcome:
            if engine.welcome is None:
                return False
            since = max(since, engine.welcome)
        return self.now > since + LEASE

    def engine_starts(self) -> None:
        """Another one. What an earlier one answered last isn't known: it may have been just now."""
        self.journal.epoch += 1
        engine = Engine(self.journal.copy(), self.journal.epoch)
        self.engines = [*self.engines[-1:], engine]
        engine.answered = {one: self.now for one in self.journal.started if one not in self.journal.ended}
        self.repeats_itself(engine)

    def repeats_itself(self, engine: Engine) -> None:
        """As on a new connection: who it is, all that should run, and all that is settled."""
        self.send(Hello(1, 1, "", "", engine.epoch))
        for name in engine.known.started:
            self.send((Settle if name in engine.known.ended else Ensure)(engine.epoch, name))

    def refuses(self, engine: Engine) -> bool:
        """True when the journal takes nothing from this engine any more."""
        return self.kept.journal_refuses_lower_epochs and engine.epoch < self.journal.epoch

    def attempt_starts(self, engine: Engine, name: str) -> None:
        """The next attempt of a job, when the engine takes the last one to be over."""
        if self.refuses(engine):
            return
        if not self.leases:
            self.records.setdefault(name, Record())
        engine.known.started[name] = engine.answered[name] = self.now
        self.journal.started.setdefault(name, self.now)
        if any(job_of(one.name) == job_of(name) and one.script for one in self.running):
            self.broken = f"{name} was started while an earlier attempt ran"
        self.send(Ensure(engine.epoch, name))

    def end(self, engine: Engine, name: str) -> None:
        """Record an end."""
        if self.refuses(engine):
            return
        if name in engine.known.started and name not in engine.known.ended:
            engine.known.ended.add(name)
            self.journal.ended.add(name)
            self.ends[name] = self.ends.get(name, 0) + 1
            if any(one.name == name and one.script for one in self.running):
                self.broken = f"{name} was ended while it ran"
        self.send(Settle(engine.epoch, name))

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
            for engine in self.engines:
                yield partial(self.comes_to_engine, engine, message)

    def messages_stray(self) -> Iterator[Callable[[], object]]:
        """Lost, or there once more."""
        for message in self.to_node:
            yield partial(self.to_node.remove, message)
            yield partial(self.send, message)
        for message in self.to_engine:
            yield partial(self.to_engine.remove, message)
            yield partial(self.tell, message)

    def comes_to_engine(self, engine: Engine, message: Any) -> None:
        self.to_engine.remove(message)
        if isinstance(message, Welcome):
            if message.epoch == engine.epoch and engine.welcome is None:
                engine.welcome = self.now
        elif isinstance(message, Over):
            self.end(engine, message.name)
        elif isinstance(message, Came):
            engine.came[message.name] = max(message.sent, engine.came.get(message.name, 0))
        elif message.name in engine.known.started and message.name not in engine.known.ended:
            engine.answered[message.name] = self.now
            self.send(Answer(engine.epoch, message.name, message.at, self.now))

    def comes_to_node(self, message: Any) -> None:
        self.to_node.remove(message)
        if not self.agent or (self.kept.refuses_lower_epochs and message.epoch < self.highest):
            return
        self.highest = max(self.highest, message.epoch)
        if isinstance(message, Hello):
            self.tell(Welcome(1, message.epoch))
            return
        name = message.name
        here = [one for one in self.running if one.name == name]
        if isinstance(message, Renew):
            for one in (one for one in here if message.at > one.since):
                one.leased = max(one.leased or 0, int(message.at) if self.kept.lease_from_request else self.now)
                self.tell(Came(name, message.sent))
        elif isinstance(message, Settle):
            if not here:
                self.records.pop(name, None)
                self.watched.discard(name)
        elif name in self.records or self.leases or not self.kept.folder_before_the_start:
            record = self.records.setdefault(name, Record())
            if record.over or (record.claimed and not here):
                record.over = True
                self.tell(Over(name, NOTHING))
            elif not record.claimed and name not in self.watched:
                self.watched.add(name)
                leased = self.leases and self.kept.leased_before_it_begins
                self.running.append(Running(name, leased=None if leased else self.now, since=self.instant()))
        else:
            self.tell(Over(name, NOTHING))

    # -- the node -------------------------------------------------------------------------------------

    def node_steps(self) -> Iterator[Callable[[], object]]:
        """Steps that supervisors, scripts and the agent can take."""
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
                late = self.leases and one.leased is not None and self.now > one.leased + LEASE
                if one.leased is not None and not (late and self.kept.begins_within_its_lease):
                    yield partial(self.begins, one)
            else:
                yield partial(self.finishes, one, record)
            if one.supervisor and one.claims and self.leases and len(self.to_engine) < 3:
                yield partial(self.tell, Ask(one.name, self.instant()))

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
            self.tell(Over(one.name, NOTHING))

    def orphan_ends(self, one: Running, record: Record) -> None:
        """The agent sees that a supervisor has gone: all that it left is ended, and then that is told."""
        if self.kept.ends_after_orphans or not one.script:
            self.running.remove(one)
        if one.claims:  # else another may have it, and that is followed
            record.over = True
            self.tell(Over(one.name, NOTHING))

    def time_passes(self) -> None:
        """A tick: supervisors whose lease is over end their scripts, by their own clocks; the agent has ended orphans by then."""
        for one in [one for one in self.running if not one.supervisor]:
            self.orphan_ends(one, self.records.setdefault(one.name, Record()))
        self.now += 1
        for one in list(self.running):
            if self.leases and one.supervisor and one.leased is not None and self.now > one.leased + LEASE:
                self.running.remove(one)
                if one.claims:
                    self.records.setdefault(one.name, Record()).over = True

    # -- what ends, and what comes back ---------------------------------------------------------------

    def ends_and_returns(self) -> Iterator[Callable[[], object]]:
        """Whatever may end or come back, between any two steps."""
        if self.engines:
            yield self.engines.pop  # it ends
            yield self.engine_starts  # while the one before goes on
            yield self.journal_is_copied
        if self.copied is not None:
            yield self.journal_is_put_back
        if all(one.supervisor for one in self.running):
            yield self.agent_ends
        yield self.node_ends
        for one in self.running:
            if one.supervisor and self.agent:
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


def _words(step: Callable[[], object]) -> str:
    function, given = getattr(step, "func", step), getattr(step, "args", ())
    return " ".join([getattr(function, "__name__", str(function)), *map(str, given)])


def without(name: str) -> Rules:
    """The rules without one of them."""
    return replace(Rules(), **{name: False})


def walk(kept: Rules, jobs: int, leases: bool, steps: int, chance: Random) -> None:
    """A world that goes anyhow. Raises :class:`Broken`."""
    world = World(kept, jobs, leases)
    for _ in range(steps):
        do = chance.choices((world.goes_on, world.goes_wrong, world.a_tick), (2, 1, 1))[0]
        do(*(() if do == world.a_tick else (chance.randrange(2**16),)))

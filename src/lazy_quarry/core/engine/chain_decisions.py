"""The events of the commands about chains."""

from lazy_quarry.core.engine.commands import ChangeChain, LinkChain, SubmitChain
from lazy_quarry.core.engine.events import ChainChanged, Chained, ChainLinked, Event
from lazy_quarry.core.engine.situation import Situation
from lazy_quarry.core.job.chain_record import ChainRecord
from lazy_quarry.core.job.ownership import refuse_others
from lazy_quarry.errors import NoSuchJob, Refused


def submit_chain(now: Situation, command: SubmitChain) -> list[Event]:
    """A chain gets its number."""
    return [
        Chained(
            at_ms=now.at_ms,
            chain=now.state.next_chain,
            name=command.name,
            by=command.by,
            parts=command.parts,
            source=command.source,
            path=command.path,
            folder=command.folder,
            settings=command.settings,
        )
    ]


def link_chain(now: Situation, command: LinkChain) -> list[Event]:
    """A job becomes a part of a chain."""
    chain = _own(now, command.chain, command.by.user)
    if chain.place(command.part) is None:
        raise Refused(f"chain {command.chain} has no job {command.part}")
    if command.number not in now.state.jobs:
        raise NoSuchJob.of(command.number)
    return [ChainLinked(now.at_ms, command.chain, command.part, command.number, command.by)]


def change_chain(now: Situation, command: ChangeChain) -> list[Event]:
    """A chain goes on by another file; jobs that it had keep their numbers."""
    _own(now, command.chain, command.by.user)
    return [ChainChanged(now.at_ms, command.chain, command.by, command.parts, command.source, command.settings)]


def _own(now: Situation, number: int, user: str) -> ChainRecord:
    chain = now.state.chains.get(number)
    if chain is None:
        raise NoSuchJob.of_chain(number)
    refuse_others(chain.user, user, f"chain {number}", "change only your own")
    return chain

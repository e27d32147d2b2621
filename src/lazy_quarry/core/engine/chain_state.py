"""The chains of a state: how their events change them."""

from lazy_quarry.core.engine.events import ChainChanged, Chained, ChainLinked
from lazy_quarry.core.job.chain_record import ChainPart, ChainRecord
from lazy_quarry.core.values import replace

MOST_CHAINS = 1_000
"""Chains that are kept; older ones are in the events."""


def take_chain(chains: dict[int, ChainRecord], event: Chained | ChainLinked | ChainChanged) -> None:
    """Take one of their events in."""
    if isinstance(event, Chained):
        parts = tuple(ChainPart(name, after) for name, after in event.parts)
        chains[event.chain] = ChainRecord(
            number=event.chain,
            name=event.name,
            user=event.by.user,
            at_ms=event.at_ms,
            parts=parts,
            source=event.source,
            path=event.path,
            folder=event.folder,
            settings=event.settings,
        )
        while len(chains) > MOST_CHAINS:
            del chains[min(chains)]
    elif event.chain in chains:
        known = chains[event.chain]
        if isinstance(event, ChainLinked):
            chains[event.chain] = known.linked(event.part, event.number)
        else:
            before = {one.name: one for one in known.parts}
            parts = tuple(replace(before.get(name, ChainPart(name, after)), after=after) for name, after in event.parts)
            chains[event.chain] = replace(known, parts=parts, source=event.source, settings=event.settings)

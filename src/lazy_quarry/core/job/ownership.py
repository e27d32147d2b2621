"""Jobs and chains are changed by the person who submitted them alone."""

from lazy_quarry.errors import Refused


def refuse_others(owner: str, user: str, label: str, allowed: str) -> None:
    """Raise :class:`Refused` where ``label`` belongs to somebody else; ``allowed`` says what ``user`` may do instead."""
    if owner != user:
        raise Refused(f"{label} belongs to {owner}; you may {allowed}")

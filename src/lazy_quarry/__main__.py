"""``python -m lazy_quarry``: the same as the command ``lazy-quarry``."""

from lazy_quarry.entry import console

console()

"""The entry point of ``lazy-quarry`` and ``lq``: what runs inside a job goes its own short way."""

import sys

INSIDE = ("phase", "ranks", "spread")


def console() -> None:
    """Run a command."""
    if sys.argv[1:2] and sys.argv[1] in INSIDE and sys.argv[2:3] != ["--help"]:
        from lazy_quarry.inside.main import leave

        leave()
    from lazy_quarry.cli.main import console as other

    other()

"""``python -m lazy_quarry.cli``, as the ``lq`` inside a job runs it."""

from lazy_quarry.cli.main import console

console()

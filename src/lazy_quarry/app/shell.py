"""Gives the terminal to a shell on cores of this machine, and takes it back."""

import subprocess
import sys
from pathlib import Path

from textual.app import App, SuspendNotSupported

from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.views.draft_view import DraftReport


def open_shell(app: App[None], client: SiteClient | None, scripts: Path, report: DraftReport | None) -> str:
    """Run a shell until it ends, with as many cores as a draft of one node asks threads for.

    Says why that could not be done, or nothing.
    """
    folder = getattr(client, "folder", None)
    if folder is None:
        return "A rehearsal has no machine to give a shell on. Outside of it, lazy-quarry shell gives you one here."
    command = [sys.executable, "-m", "lazy_quarry", "shell", "--state", str(folder)]
    if report is not None and report.shape.threads > 1 and report.shape.nodes <= 1:
        command += ["--cores", str(report.shape.threads)]
    try:
        with app.suspend():
            subprocess.run(command, cwd=scripts)
            input("\nenter goes back to Lazy Quarry ")
    except (SuspendNotSupported, EOFError, KeyboardInterrupt):
        return "This terminal cannot be handed over; run lazy-quarry shell beside it."
    return ""

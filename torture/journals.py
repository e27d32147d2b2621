"""Journals damaged at random: either all of it is there, or it is told in one line and what is whole is saved."""

import random
import shutil
import time
from collections import Counter
from pathlib import Path

from lazy_quarry.errors import DamagedJournal
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.rescue import rescue
from tests.store.test_damage import damaged, everything, lived_in, put


def damage_journals(base: Path, chance: random.Random, until: float, figures: Counter[str], broken: list[str]) -> None:
    """Damage one journal over and over."""
    folder = base / "damaged"
    site, files = lived_in(folder)
    state, held = site.engine.state, everything(site.journal)
    site.journal.close()
    kinds = [files, {name: (folder / name).read_bytes() for name in ("journal.db", "journal.head")}]
    while time.monotonic() < until:
        files = chance.choice(kinds)
        name = chance.choice([name for name in files if name != "journal.head"])
        put(folder, {**files, name: damaged(files[name], chance)})
        figures["journals damaged"] += 1
        try:
            journal = Journal(folder)
            same = (journal.load(), everything(journal)) == (state, held)
            journal.close()
            figures["journals damaged: harmless"] += same
            if not same:
                broken.append(f"damage to {name} passed in silence")
        except DamagedJournal as fault:
            figures["journals damaged: told"] += 1
            if "\n" in str(fault):
                broken.append(f"damage is told in more than a line: {fault}")
            if chance.random() < 0.2 and "0 events can still" not in str(fault):
                figures["journals rescued"] += 1
                figures["events rescued"] += rescue(folder).whole
        except Exception as fault:  # any other is what this looks for
            broken.append(f"damage to {name}: {type(fault).__name__} {fault}")
    shutil.rmtree(folder)

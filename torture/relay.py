"""A relay for mail that takes, delays and refuses at random, and what must be true of the letters in the end."""

import asyncio
import json
import os
import random
import signal
import time
from collections import Counter
from email import message_from_bytes, policy
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller

from tests.conftest import Machine

PATIENCE_S = 120.0


class Relay:
    """An SMTP server. While it is ``moody`` it takes a letter in one of three cases."""

    def __init__(self, chance: random.Random) -> None:
        self.chance, self.moody = chance, True
        self.taken: list[Any] = []
        self._controller = Controller(self, hostname="127.0.0.1", port=_free_port())
        self._controller.start()

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        """Some addresses are never taken at first."""
        if self.moody and address.startswith("full"):
            return "450 the box is full"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """Take a letter, or not now."""
        if self.moody and self.chance.random() < 0.67:
            await asyncio.sleep(self.chance.random() * 0.2)
            return "451 come back later"
        self.taken.append(message_from_bytes(envelope.content, policy=policy.default))
        return "250 OK"

    def describe(self, machine: Machine) -> None:
        """Have a machine's site send its mail here."""
        folder = Path(machine.environment["LQ_SITES"])
        folder.mkdir(parents=True)
        port = self._controller.port
        (folder / "machine.toml").write_text(f'[mail]\nrelay = "127.0.0.1"\nport = {port}\ntls = "none"\n')

    def close(self) -> None:
        """Stop."""
        self._controller.stop()

    def settle(
        self, machine: Machine, wanted: dict[int, str], figures: Counter[str], broken: list[str], where: str
    ) -> None:
        """Take everything, and wait until nothing is left to be sent: each job that asked for mail had some."""
        self.moody = False
        for pid in machine.processes("lazy_quarry.link.server"):  # the next one does not wait as long as this one would
            os.kill(pid, signal.SIGKILL)
        end, waiting = time.monotonic() + PATIENCE_S, ["?"]
        while waiting and time.monotonic() < end:
            done = machine.lq("mail", "--limit", "500", "--format", "json")
            letters = json.loads(done.stdout) if done.returncode == 0 else []
            waiting = [one["subject"] for one in letters if one["state"] == "waits"] if done.returncode == 0 else ["?"]
            time.sleep(0.3)
        broken += [f"{where}: {subject} is never sent" for subject in waiting]
        names = Counter(str(one["X-Lazy-Quarry-Notice"]) for one in self.taken)
        figures["letters taken"] += len(names)
        figures["letters taken twice, with one Message-ID"] += sum(times > 1 for times in names.values())
        if len({str(one["Message-ID"]) for one in self.taken}) != len(names):
            broken.append(f"{where}: a letter has two Message-IDs")
        for job, state in wanted.items():
            figures["jobs that asked for mail"] += 1
            if not any(name.split("-")[1] == str(job) for name in names):
                figures["letters lost"] += 1
                broken.append(f"{where}: no mail about job {job}, which is {state}")


def _free_port() -> int:
    import socket

    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])

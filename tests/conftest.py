"""Shared by all tests: a small site, scripts, and a state folder of their own."""

import gc
import json
import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar

import pytest
from hypothesis import HealthCheck, settings
from sqlalchemy import Table, select

from cluster.fixture import hosts, made_hosts
from lazy_quarry.core.site import Account, Closure, Node, Queue, Site, Software, Tier, Window
from lazy_quarry.demo import rehearsed
from lazy_quarry.demo.virtual_clock import OnVirtualClock
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.fast_search import loaded
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_file.roles import caller_of
from lazy_quarry.site.site_in_use import SiteInUse
from lazy_quarry.store.journal import Journal
from tests.warm import WARM

__all__ = ["hosts", "made_hosts"]  # fixtures of hosts that one reaches by SSH

os.environ["COLORTERM"] = "truecolor"  # what the application draws is looked at in its own colours

settings.register_profile(
    "quarry", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
settings.load_profile("quarry")

rehearsed.recent_events = cache(lambda seed, make=rehearsed.recent_events: tuple(make(seed)))
"""The demo's last hours are made once in a process; it is begun anew two hundred times."""

PATIENCE_S = 45.0
SEEDS = int(os.environ.get("LQ_SEEDS", "1"))
"""Seeds for tests of chance that drive the application or this machine; ``make long`` tries more."""
T = TypeVar("T")


def until(condition: Callable[[], T], what: str = "") -> T:
    """Wait for a condition, never for a time; what it gave is returned."""
    end, pause = time.monotonic() + PATIENCE_S, 0.02
    while time.monotonic() < end:
        if found := condition():
            return found
        time.sleep(pause)
        # Some conditions are asked for by a command, which takes the processor from what it waits for.
        pause = min(0.2, pause * 1.2)
    raise AssertionError(f"it never came: {what or condition}")


def small_site(
    cores: tuple[int, ...] = (8, 8, 16),
    windows: tuple[Window, ...] = (),
    closures: tuple[Closure, ...] = (),
    budget: int | None = 1000,
) -> Site:
    """Nodes n1, n2, …; a queue of all, one of the last alone; two accounts; two tiers."""
    nodes = tuple(
        Node(
            f"n{number}",
            each,
            each * 2048,
            gpus=2 * (number == len(cores)),
            scratch_mib=10_000,
            traits=("fast",) * (number % 2),
        )
        for number, each in enumerate(cores, 1)
    )
    names = tuple(node.name for node in nodes)
    return Site(
        name="brook",
        kind="rehearsal",
        nodes=nodes,
        queues=(
            Queue("all", names, walltime_limit_s=86_400, walltime_default_s=1800, memory_default_mib=512),
            Queue("last", names[-1:], walltime_limit_s=3600, users=("ada",)),
        ),
        accounts=(Account("silt", budget), Account("eels", None, ("ada",))),
        tiers=(Tier("steady"), Tier("double", 2000)),
        default_queue="all",
        default_tier="steady",
        windows=windows,
        closures=closures,
        software=(Software("mpi/5.0"), Software("mpi/4.1")),
    )


class SiteUnderTest(InProcessClient):
    """A site in use as its clients reach it, with its insides at hand."""

    def __init__(self, site: Site, clock: Callable[[], int], journal: Journal | None = None, user: str = "ada") -> None:
        journal = journal or Journal(None)
        super().__init__(SiteInUse(Session(site, journal, RehearsalRunner(1), clock=clock)), caller_of(site, user))
        self.session, self.step = self.site.session, self.site.dispatcher.step
        self.engine, self.journal, self.now = self.session.engine, journal, self.session.now

    def of(self, user: str) -> InProcessClient:
        """A client of somebody else, of the same engine."""
        return InProcessClient(self.site, caller_of(self.session.site, user))


def rows_of(journal: Journal, table: Table) -> list[Any]:
    """All rows of one of a journal's tables, in the order of its primary key."""
    with journal.storage.sql.connect() as work:
        return list(work.execute(select(table).order_by(*table.primary_key.columns)))


R = TypeVar("R", bound=OnVirtualClock)


def quickly(rehearsal: R) -> R:
    """A rehearsal that searches with what is compiled: the same plans in half the time."""
    rehearsal.session.engine.plans.planner.kernels = loaded()
    return rehearsal


_LONG = (
    "app/test_places", "app/test_keys", "terminal/test_whole_path", "app/test_chain", "app/test_draft", "test_docs",
    "run/test_site_of_hosts", "run/test_firm", "run/test_faults", "site/test_ledger", "app/test_watch", "run/test_node_model",
    "core/test_foresight", "study/test_forecasts", "draw/test_figures", "app/test_review", "run/test_rehearsal",
    "app/test_tasks_of_a_morning", "run/test_demo_year", "cli/test_report_files", "run/test_hosts", "run/test_machine",
    "terminal/test_layouts", "app/test_dialogs", "terminal/test_hosts", "cluster/test_hosts", "core/engine/test_invariants",
)  # fmt: skip
"""Files that take longest, begun first: else one of them would be the last, and run alone."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put tests in the order in which their files should begin; in a file they stay as they are."""
    here, order = Path(__file__).parent, {name: place for place, name in enumerate(_LONG)}
    items.sort(key=lambda item: order.get(str(item.path.relative_to(here).with_suffix("")), len(order)))


def pytest_collection_finish() -> None:
    """What is loaded stays: the collector of unused objects need not look through it again, hundreds of times."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


@pytest.fixture
def site() -> Site:
    """The small site."""
    return small_site()


def script(header: str, body: str = "true", interpreter: str = "#!/bin/sh") -> str:
    """A script with these lines in its header."""
    lines = "".join(f"# {line}\n" if line else "#\n" for line in header.split("\n")) if header else ""
    return f"{interpreter}\n# /// job\n{lines}# ///\n{body}\n"


@dataclass
class Machine:
    """A state folder of this machine with a folder of locks of its own, driven by the command line."""

    state: Path
    work: Path
    environment: dict[str, str] = field(default_factory=dict)

    def lq(self, *words: str, text: str | None = None) -> subprocess.CompletedProcess[str]:
        """Run a command to its end."""
        return WARM.run(words, self.work, self.environment, text, PATIENCE_S * 2)

    def submit(self, body: str, *settings_: str, header: str = 'walltime = "1m"\nmemory = "64 MiB/core"') -> int:
        """Submit a script; returns its number."""
        path = self.work / "job.sh"
        path.write_text(script(header, body))
        words = [word for each in settings_ for word in ("--set", each)]
        done = self.lq("submit", str(path), *words)
        assert done.returncode == 0, done.stderr
        return int(done.stdout.split()[0])

    def show(self, job: int) -> dict:
        """A job as JSON."""
        done = self.lq("show", str(job), "--format", "json")
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    def state_of(self, job: int) -> str:
        """A job's state."""
        return str(self.show(job)["state"])

    def ended(self, job: int) -> dict:
        """A job as JSON, once it has ended. One command waits for that: to ask again and again would take all of a core."""
        self.lq("wait", str(job))  # it is done, or isn't, or its engine goes away meanwhile
        until(lambda: self.show(job)["ended"], f"the end of {job}")
        return self.show(job)

    def processes(self, what: str) -> list[int]:
        """Numbers of this folder's processes whose command line has a word in it."""
        found = []
        for name in os.listdir("/proc"):
            if name.isdigit():
                try:
                    line = Path(f"/proc/{name}/cmdline").read_bytes().replace(b"\0", b" ").decode()
                except OSError:
                    continue
                if what in line and str(self.state) in line:
                    found.append(int(name))
        return found

    def engine(self) -> int:
        """The number of the engine's process."""
        return until(lambda: self.processes("lazy_quarry.link.server"), "an engine")[0]

    def agents(self) -> list[int]:
        """The agent and its supervisors: they share a command line."""
        return self.processes("lazy_quarry.run.node.agent")

    def attempt(self, job: int, attempt: int = 1) -> Path | None:
        """The folder of an attempt in the spool."""
        return next(iter((self.state / "spool").glob(f"{job}-{attempt}-*")), None)

    def supervisor(self, job: int, attempt: int = 1) -> int:
        """The number of a job's supervisor, once it has claimed it."""

        def claimed() -> int:
            found = self.attempt(job, attempt)
            claim = found / "claim.json" if found else None
            return int(json.loads(claim.read_text())["pid"]) if claim and claim.exists() else 0

        return until(claimed, "a claim")

    def agent(self) -> int:
        """The agent alone: the one that leads its session and is no supervisor."""
        claimed = {self.supervisor_of(folder) for folder in (self.state / "spool").glob("*-*")}
        return next(pid for pid in self.agents() if pid not in claimed)

    @staticmethod
    def supervisor_of(folder: Path) -> int:
        """The claimed supervisor of an attempt, or 0."""
        from lazy_quarry.run.node.attempt import read_claim

        claim = read_claim(folder)
        return claim.pid if claim else 0

    def kill_all(self) -> None:
        """End whatever of it still runs."""
        import signal

        for pid in [*self.processes("lazy_quarry.link.server"), *self.agents()]:
            try:
                os.kill(pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
        for name in os.listdir("/proc"):
            if name.isdigit():
                try:
                    base = f"{self.state.parent}/".encode()  # copies of its folder too
                    line = Path(f"/proc/{name}/cmdline").read_bytes()
                    if base in Path(f"/proc/{name}/environ").read_bytes() or (b"lazy_quarry" in line and base in line):
                        os.kill(int(name), signal.SIGKILL)
                except OSError:
                    continue


def _machine() -> Iterator[Machine]:
    base = Path(tempfile.mkdtemp(prefix="lq-test-"))
    state, work, runtime = base / "state", base / "work", base / "run"
    for folder in (work, runtime):
        folder.mkdir()
    environment = {
        **{name: value for name, value in os.environ.items() if not name.startswith("LQ_")},
        "LQ_STATE": str(state),
        "LQ_LOCKS": str(runtime),
        "LQ_LINGER": "20",
    }
    found = Machine(state, work, environment)
    yield found
    found.kill_all()
    shutil.rmtree(base, ignore_errors=True)


@pytest.fixture
def own_machine() -> Iterator[Machine]:
    """This machine's site in folders of the test's own."""
    yield from _machine()


@pytest.fixture
def machine(own_machine: Machine) -> Machine:
    """The same, unless a module's tests share one: see :func:`used_machine`."""
    return own_machine


@pytest.fixture(scope="module")
def _used() -> Iterator[Machine]:
    yield from _machine()


@pytest.fixture
def used_machine(_used: Machine, tmp_path: Path) -> Iterator[Machine]:
    """The same with an engine that other tests of the module have used too; the folder that it works in is the test's own."""
    found = replace(_used, work=tmp_path, environment=dict(_used.environment))
    yield found
    found.lq("cancel", *(str(each["job"]) for each in json.loads(found.lq("jobs", "--format", "json").stdout)))


def pytest_sessionstart() -> None:
    """Each of several processes first loads its own part of the tests.

    What pytest makes of a module is kept beside it: so each is made once, not by all of them at the same time.
    """
    mine, all_of_them = os.environ.get("PYTEST_XDIST_WORKER", ""), int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
    if all_of_them == 1:
        return
    here = Path(__file__).parent
    files = sorted(here.rglob("test_*.py"), key=lambda file: (-file.stat().st_size, file))
    for file in files[int(mine.removeprefix("gw")) :: all_of_them]:
        with suppress(Exception, pytest.skip.Exception):
            import_module(".".join(("tests", *file.relative_to(here).with_suffix("").parts)))

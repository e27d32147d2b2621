"""Each target takes bytes, and raises only where a promise is broken."""

import json
import os
import shutil
import socket
import tempfile
import tomllib
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path

from lazy_quarry.core.formats.calendar import read_calendar
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import CheckContext, check_script, override_values
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.instants import parse_instant, parse_since
from lazy_quarry.core.job.sweep import make_array, parse_tasks, parse_values
from lazy_quarry.core.plain_text import displayed, plain
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import parse_duration, parse_names, parse_size
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.files import given, ours
from lazy_quarry.link.answered import answer
from lazy_quarry.run.node.file_kinds import file_found
from lazy_quarry.run.node.messages import message_of, of_before
from lazy_quarry.run.node.staging import copy_tree
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_file.site_file import SiteFileError, site_of
from lazy_quarry.site.site_in_use import SiteInUse
from lazy_quarry.store.journal import Journal
from lazy_quarry.study.swf import read_trace

NOW = 1_700_000_000_000
MOST_TASKS_ASKED, MOST_HEADER = 100, 1500


@cache
def site() -> Site:
    """A small cluster."""
    nodes = tuple(Node(f"n{number}", 8, 16_384, gpus=number % 2, traits=("fast",)) for number in (1, 2, 3))
    names = tuple(node.name for node in nodes)
    queues = (Queue("all", names, walltime_limit_s=86_400), Queue("one", names[:1]))
    return Site("brook", "machine", nodes, queues, (Account("silt", 100),), (Tier("steady"),), "all", "steady")


def header(data: bytes) -> None:
    """The check of any text raises nothing, and says what it says in plain lines; an edit is refused or keeps the header whole."""
    text = data[:MOST_HEADER].decode(errors="surrogatepass" if data[:1] == b"\xed" else "replace")
    for each in (
        text,
        "#!/bin/sh\n# /// job\n" + "".join(f"# {line}\n" for line in text.split("\n")) + "# ///\ntrue\n",
    ):
        found = check_script(each, site(), CheckContext("ada", Submission(each, overrides=(text[:80],))))
        assert all(one.message == plain(one.message) for one in found.diagnostics)
        with suppress(BadValue):
            edited = set_key(each, "threads", 2)
            assert find_block(edited)[0].values["threads"] == 2
    override_values({}, text)


def site_file(data: bytes) -> None:
    """Any site file is taken or refused with a line."""
    try:
        site_of(site(), data.decode(errors="replace"), "machine.toml")
    except SiteFileError as fault:
        assert all(words == plain(words) and "line " in words for words in fault.problems), fault.problems


def sweep(data: bytes) -> None:
    """Any array is made or refused; what is made has the tasks that it says."""
    text = data.decode(errors="replace")
    for read in (parse_tasks, parse_values):
        with suppress(BadValue):
            read(text)
    try:
        table = tomllib.loads(text)
    except (ValueError, RecursionError):
        return
    from lazy_quarry.core.header.keys import array

    with suppress(BadValue):
        made = make_array(array(table), {"f": text}, {"*": ("a", "b")}, ("n1",))
        for place in range(min(made.count, MOST_TASKS_ASKED)):
            assert made.index(made.number(place)) == place
            assert set(made.values(place)) == set(made.names)


def traits(data: bytes) -> None:
    """Any expression is read or refused."""
    text = data.decode(errors="replace")
    with suppress(BadValue):
        parse_traits(text).met_by({"fast"})


def values(data: bytes) -> None:
    """Durations, sizes, names and instants are read or refused, and nothing that is shown acts on a terminal."""
    text = data.decode(errors="replace")
    for read in (parse_duration, parse_size, parse_names, parse_instant, lambda words: parse_since(words, NOW)):
        with suppress(BadValue):
            read(text)
    assert plain(plain(text)) == plain(text) and "\x1b" not in displayed(text)


def swf(data: bytes) -> None:
    """Any trace is read or refused."""
    with suppress(QuarryError):
        read_trace(data.decode(errors="replace").splitlines(), 1024)


def calendar(data: bytes) -> None:
    """Any calendar is read or refused."""
    with suppress(BadValue):
        read_calendar(data.decode(errors="replace"), ("n1", "n2"))


@cache
def _in_use() -> SiteInUse:
    return SiteInUse(Session(site(), Journal(None), RehearsalRunner(1), clock=lambda: NOW))


def rpc(data: bytes) -> None:
    """Any line is answered, in JSON, and with no fault of our own."""
    said = json.loads(answer(_in_use(), Caller("ada"), data))
    assert said["jsonrpc"] == "2.0" and said.get("error", {}).get("code") != -32603, said


def messages(data: bytes) -> None:
    """Nothing that an agent is sent becomes a path outside its spool."""
    for line in data.split(b"\n"):
        name = getattr(message_of(line), "name", "")
        assert "/" not in name and not name.startswith(".") and of_before(line) is not None


KINDS = ("file", "folder", "pipe", "open pipe", "socket", "link", "link to a pipe", "loop", "null", "zero", "absent")


@cache
def _room() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory(prefix="lq-fuzz-")


def _put(path: bytes, kind: str, content: bytes) -> int | None:
    """Something of a kind at a path; a descriptor to close, where one keeps it open."""
    if kind == "file":
        with open(path, "wb") as file:
            file.write(content)
    elif kind == "folder":
        os.mkdir(path)
    elif kind in ("pipe", "open pipe"):
        os.mkfifo(path)
        return os.open(path, os.O_RDWR) if kind == "open pipe" else None
    elif kind == "socket":
        with socket.socket(socket.AF_UNIX) as listener:
            listener.bind(path)
    elif kind == "link to a pipe":
        os.mkfifo(path + b"p")
        os.symlink(path + b"p", path)
    elif kind != "absent":
        target = {"link": os.fsencode(__file__), "loop": path, "null": b"/dev/null", "zero": b"/dev/zero"}[kind]
        os.symlink(target, path)
    return None


def paths(data: bytes) -> None:
    """Whatever stands at whatever path, every reader and writer ends at once, with what is there or an :class:`OSError`."""
    kind, name, content = KINDS[data[0] % len(KINDS)] if data else "file", data[1:9], data[9:]
    path = os.fsencode(_room().name) + b"/" + (name.replace(b"/", b"-").replace(b"\0", b"-").strip(b".") or b"x")
    kept = None
    try:
        with suppress(OSError):
            kept = _put(path, kind, content)
        shown, may = os.fsdecode(path), kind in ("file", "link", "null")
        found = file_found(shown)
        assert found.problem or kind in ("file", "link", "folder")
        for read in (
            lambda: given.read(shown, 64, -8),
            lambda: given.read_whole(shown, 1 << 16),
            lambda: ours.read(shown),
        ):
            with suppress(OSError):
                read()
                assert may
        ours.glance_json(shown)
        with suppress(OSError):
            copy_tree(shown, f"{shown}.to", lambda: True)
        with suppress(OSError):
            os.close(given.opened(shown, os.O_WRONLY | os.O_APPEND))
            assert may
        with suppress(OSError):
            ours.write(shown, b"ours")
            assert kind in ("file", "absent")
    finally:
        if kept is not None:
            os.close(kept)
        for left in Path(_room().name).iterdir():
            shutil.rmtree(left) if left.is_dir() and not left.is_symlink() else left.unlink()


TARGETS: dict[str, Callable[[bytes], None]] = {
    one.__name__: one for one in (header, site_file, sweep, traits, values, swf, calendar, rpc, messages, paths)
}

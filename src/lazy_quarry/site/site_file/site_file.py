"""The site file: how a person describes this machine as a site, in TOML 1.0.

It is ``sites/machine.toml`` in their configuration folder.

All of it may be left out. Durations and sizes are written as in a job's header; see docs/sites.md.
"""

from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.site import Account, Queue, Site, Standing, Tier, Window
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import given, ours
from lazy_quarry.probe.machine import this_machine
from lazy_quarry.site.site_file.faults import Fault, faults_of, located, toml_of
from lazy_quarry.site.site_file.sites import sites_folder
from lazy_quarry.site.site_file.tables import FileTable, LimitsTable
from lazy_quarry.store.folder import chosen_site


class SiteFileError(QuarryError):
    """The site file cannot be used as it is. ``problems`` are all that was found; as text, the first of them."""

    def __init__(self, *problems: str) -> None:
        more = f" (and {len(problems) - 1} more; lq site check tells all)" if len(problems) > 1 else ""
        super().__init__(f"{problems[0]}{more}")
        self.problems = problems


MOST_BYTES = 2**20


def site_file() -> Path:
    """Where the site file of the chosen site is, or would be."""
    return sites_folder() / f"{chosen_site()}.toml"


def local_site() -> Site:
    """This machine as a site, with what its site file says. Raises :class:`SiteFileError` when that cannot be used."""
    return with_site_file(this_machine(), site_file())


def with_site_file(site: Site, path: Path) -> Site:
    """The site as its file describes it; unchanged where there is no file.

    Raises :class:`SiteFileError` saying what is wrong where.
    """
    try:
        text = read_text(path)
    except FileNotFoundError:
        return site
    return site_of(site, text, str(path))


def read_text(path: Path) -> str:
    """A site file's text. Raises :class:`FileNotFoundError` where there is none, else :class:`SiteFileError`."""
    try:
        raw = given.read(path, MOST_BYTES + 1)
    except FileNotFoundError:
        raise
    except OSError as fault:
        raise SiteFileError(f"{path} cannot be read: {fault.strerror}") from None
    if len(raw) > MOST_BYTES:
        raise SiteFileError(f"{path} is longer than 1 MiB, which no site file is")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        line = raw[: fault.start].count(b"\n") + 1
        raise SiteFileError(f"{path}, line {line}: this is not UTF-8; save the file as UTF-8") from None


def site_of(site: Site, text: str, name: str) -> Site:
    """The site as a site file's text describes it; ``name`` is what messages call it. Raises :class:`SiteFileError`."""
    faults: list[Fault] = []
    values = toml_of(text, faults)
    try:
        told = FileTable.model_validate(values) if not faults else None
    except ValidationError as fault:
        faults += faults_of(fault, text, FileTable)
        told = None
    if told is None:
        raise SiteFileError(*(f"{name}, line {one.line}: {one.words}" for one in faults))
    applied, more = _applied(site, told)
    if more:
        raise SiteFileError(*(f"{name}, line {one.line}: {one.words}" for one in located(more, text)))
    return applied


def schema() -> dict[str, Any]:
    """A JSON Schema (draft 2020-12) of site files, for editors."""
    found = FileTable.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **found, "title": "A site of Lazy Quarry"}


class SiteFileWatch:
    """Tells an engine what has become of its site file since it was read, and keeps the last good one for it.

    ``bare`` is the site without its file, ``kept`` where the last good file is. Raises :class:`SiteFileError` when the
    file cannot be used and no good one is kept.
    """

    def __init__(self, bare: Site, path: Path, kept: Path) -> None:
        self._bare, self.path = bare, path
        self._seen = self._stamp()
        self.text, site, self._problem = self._read()
        if site is None:
            try:
                self.text = read_text(kept)
                site = site_of(bare, self.text, str(kept))
            except (FileNotFoundError, SiteFileError):
                raise SiteFileError(self._problem) from None
        else:
            with suppress(OSError):
                ours.write_whole(kept, self.text, durable=False)
        self.site = site
        self._changed = False

    def note(self) -> str:
        """Words that people should read about the file now; empty for none."""
        stamp = self._stamp()
        if stamp != self._seen:
            self._seen = stamp
            text, _, self._problem = self._read()
            self._changed = text != self.text
        if self._problem:
            return f"{self._problem}; until it is corrected, the last good site file holds"
        return f"{self.path} has changed; lq renew makes the engine read it" if self._changed else ""

    def _read(self) -> tuple[str, Site | None, str]:
        """The file's text, the site that it describes, and why that can't be told."""
        text = ""
        try:
            with suppress(FileNotFoundError):
                text = read_text(self.path)
            return text, site_of(self._bare, text, str(self.path)), ""
        except SiteFileError as fault:
            return text, None, str(fault)

    def _stamp(self) -> tuple[int, int]:
        try:
            found = self.path.stat()
        except OSError:
            return 0, 0
        return found.st_mtime_ns, found.st_size


def watched_site(state: Path) -> SiteFileWatch:
    """This machine as a site, its file followed; the last good one is kept in a state folder."""
    return SiteFileWatch(this_machine(), site_file(), state / "site.toml")


def _applied(site: Site, told: FileTable) -> tuple[Site, list[tuple[tuple[str, ...], str]]]:
    """The site with what its file says, and what in that doesn't fit the site, by its place in the file."""
    faults: list[tuple[tuple[str, ...], str]] = []
    if site.kind == "machine":
        faults += _host_faults(told)
    if site.kind == "rehearsal" or not faults:
        site = _with_nodes(site, told, faults)
    every = tuple(node.name for node in site.nodes)
    accounts = tuple(one.value() for one in told.accounts)
    faults += _account_faults(told)
    tiers = tuple(
        Tier(
            one.name,
            round(one.charge * 1000),
            one.users,
            one.walltime,
            one.note,
            one.standing,
            one.gives_way,
            one.limits.value(),
        )
        for one in told.tiers
    )
    named = {tier.name for tier in tiers}
    tiers = (*tiers, *(tier for tier in site.tiers if tier.name not in named))
    windows = []
    for place, one in enumerate(told.windows):
        unknown = [name for name in one.nodes if name not in every]
        if unknown:
            words = f"windows.nodes: there is no node {shortened(unknown[0])}{nearest(unknown[0], every)}"
            faults.append((("windows", str(place), "nodes"), words))
        if one.ends <= one.begins:
            faults.append((("windows", str(place), "ends"), "windows.ends: it ends before it begins"))
    for place, area in enumerate(told.storage):
        if unknown := [name for name in area.nodes if name not in every]:
            words = f"storage.nodes: there is no node {shortened(unknown[0])}{nearest(unknown[0], every)}"
            faults.append((("storage", str(place), "nodes"), words))
    for key, names in (("accounts", [one.name for one in told.accounts]), ("tiers", [one.name for one in told.tiers])):
        for place, name in enumerate(names):
            if name in names[:place]:
                faults.append(((key, str(place), "name"), f"{key}.name: there are two called {shortened(name)}"))
    for one in told.windows:
        windows.append(Window(one.nodes or every, one.begins, one.ends, one.reason, one.users, one.accounts, one.name))
    users = [(name, limits.value()) for name, limits in sorted(told.limits.users.items())]
    if told.limits.everyone != LimitsTable():
        users.append(("", told.limits.everyone.value()))
    standing = told.standing
    described = replace(
        site,
        policy=told.policy,
        plan_depth=told.plan_depth,
        kept=told.keep.value(),
        rates=told.charging.value(site, faults),
        head=told.head or site.head,
        contact=told.contact or site.contact,
        mail=told.mail.value() if told.mail else site.mail,
        standing=Standing(standing.account, standing.user, standing.size, standing.half_life),
        accounts=accounts or site.accounts,
        operators=told.operators,
        default_accounts=tuple((user, one.name) for one in told.accounts for user in one.default_for)
        if told.accounts
        else site.default_accounts,
        tiers=tiers,
        queues=tuple(replace(queue, limits=told.limits.queue.value()) for queue in site.queues),
        windows=tuple(windows),
        storage=tuple(one.value() for one in told.storage) or site.storage,
        user_limits=tuple(users),
    )
    return described, faults


def _host_faults(told: FileTable) -> Iterator[tuple[tuple[str, ...], str]]:
    """Faults of the nodes of a file of real machines, by its place."""
    hosts = list[str]()
    for place, one in enumerate(told.nodes):
        at = ("nodes", str(place))
        if not one.host:
            words = (
                'name the host that it is, as SSH knows it, or "local" for this machine; lq demo --of rehearses nodes'
            )
            yield (*at, "names"), f"nodes.host: {words}"
        elif len(one.names) > 1:
            yield (*at, "names"), "nodes.names: a host is one node, with one name"
        elif one.host in hosts:
            yield (*at, "host"), f"nodes.host: {shortened(one.host)} stands there twice"
        hosts.append(one.host)
    if told.queues and not told.nodes:
        yield ("queues",), "queues: this machine finds its own itself; name its nodes too, or let lq hosts add do it"


def _with_nodes(site: Site, told: FileTable, faults: list[tuple[tuple[str, ...], str]]) -> Site:
    """A site with the nodes and queues of its file; without any it stays as it is."""
    nodes = {node.name: node for one in told.nodes for node in one.value()}
    count = sum(len(one.names) for one in told.nodes)
    if count > len(nodes):
        faults.append((("nodes",), "nodes.names: a node stands there twice"))
    for place, queue in enumerate(told.queues):
        at = ("queues", str(place))
        if unknown := [name for name in queue.nodes if name not in nodes]:
            words = f"there is no node {shortened(unknown[0])}{nearest(unknown[0], list(nodes))}"
            faults.append(((*at, "nodes"), f"queues.nodes: {words}"))
        if queue.name in [other.name for other in told.queues[:place]]:
            faults.append(((*at, "name"), f"queues.name: there are two called {shortened(queue.name)}"))
    if not nodes:
        return replace(site, name=told.name or site.name)
    every = (replace(site.queues[0], nodes=tuple(nodes)) if site.kind == "machine" else Queue("all", tuple(nodes)),)
    queues = tuple(one.value() for one in told.queues) or every
    return replace(
        site,
        name=told.name or site.name,
        nodes=tuple(nodes.values()),
        queues=queues if not faults else every,
        default_queue=queues[0].name,
        tiers=site.tiers or (Tier("steady"),),
        default_tier=site.default_tier or (told.tiers[0].name if told.tiers else "steady"),
        accounts=site.accounts or (Account("everybody"),),
    )


def _account_faults(told: FileTable) -> Iterator[tuple[tuple[str, ...], str]]:
    """Parts of a file's accounts that don't go together, by their place."""
    parents = {one.name: one.parent for one in told.accounts}
    seen = dict[str, str]()
    for place, one in enumerate(told.accounts):
        at = ("accounts", str(place))
        if one.parent and one.parent not in parents:
            words = f"there is no account {shortened(one.parent)}{nearest(one.parent, list(parents))}"
            yield (*at, "parent"), f"accounts.parent: {words}"
        elif one.parent and one.name in _above(one.name, parents):
            yield (*at, "parent"), f"accounts.parent: {shortened(one.name)} would be under itself"
        if one.ends is not None and one.begins is not None and one.ends < one.begins:
            yield (*at, "ends"), "accounts.ends: it ends before it begins"
        if one.carry_over and (not one.each or one.begins is None):
            yield (*at, "carry-over"), "accounts.carry-over: this needs each, and begins, from where it is counted"
        if one.budget is None and (one.each or one.begins is not None or one.ends is not None):
            yield (*at, "name"), "accounts.budget: it has a term and no core-hours"
        for user in one.default_for:
            if one.users and user not in one.users:
                yield (*at, "default-for"), f"accounts.default-for: {shortened(user)} is not among its users"
            if seen.setdefault(user, one.name) != one.name:
                yield (
                    (*at, "default-for"),
                    f"accounts.default-for: {shortened(user)} has {shortened(seen[user])} already",
                )


def _above(name: str, parents: Mapping[str, str]) -> set[str]:
    found, at = set[str](), parents.get(name, "")
    while at and at not in found:
        found.add(at)
        at = parents.get(at, "")
    return found

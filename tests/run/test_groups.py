"""Control groups as files: which hierarchies are taken, and what is written into them."""

import os

import pytest

from lazy_quarry.run.node import groups

VERSION_1 = "8:pids:/own\n6:freezer:/\n4:memory,other:/elsewhere\n3:cpuset:/\n0::/\n"
VERSION_2 = "0::/user.slice/user@1000.service\n"


@pytest.fixture(autouse=True)
def fresh():
    groups.group_bases.cache_clear()
    yield
    groups.group_bases.cache_clear()


def hierarchy(tmp_path, own, folders):
    (tmp_path / "own").write_text(own)
    for folder in folders:
        (tmp_path / "root" / folder).mkdir(parents=True)
        (tmp_path / "root" / folder / "cgroup.procs").touch()
    return groups.group_bases(str(tmp_path / "root"), str(tmp_path / "own"))


@pytest.mark.parametrize(
    ("own", "folders", "chosen"),
    [
        (VERSION_2, ["user.slice/user@1000.service"], {"": "user.slice/user@1000.service/lazy-quarry"}),
        (
            VERSION_2,
            ["unified/user.slice/user@1000.service"],
            {"": "unified/user.slice/user@1000.service/lazy-quarry"},
        ),
        (VERSION_1, ["pids/own", "unified"], {"pids": "pids/own/lazy-quarry", "": "unified/lazy-quarry"}),
        (
            VERSION_1,
            ["memory/elsewhere", "cpuset"],
            {"memory": "memory/elsewhere/lazy-quarry", "cpuset": "cpuset/lazy-quarry"},
        ),
        ("0::/a/lazy-quarry\n", ["a/lazy-quarry"], {"": "a/lazy-quarry"}),
        (VERSION_1, [], {}),
        ("", [], {}),
    ],
)
def test_groups_are_made_where_they_may_be_written(tmp_path, own, folders, chosen):
    assert hierarchy(tmp_path, own, folders) == {each: str(tmp_path / "root" / path) for each, path in chosen.items()}


def test_controllers_are_let_through_and_cores_filled_in(tmp_path):
    for folder, files in (("unified", ["cgroup.subtree_control"]), ("cpuset", ["cpuset.cpus", "cpuset.mems"])):
        for below in ("", "/lazy-quarry"):
            (tmp_path / f"root/{folder}{below}").mkdir(parents=True)
            for each in ("cgroup.procs", *files):
                (tmp_path / f"root/{folder}{below}/{each}").touch()
    (tmp_path / "root/cpuset/cpuset.cpus").write_text("0-3\n")
    (tmp_path / "own").write_text(VERSION_1)
    groups.group_bases(str(tmp_path / "root"), str(tmp_path / "own"))
    assert (tmp_path / "root/cpuset/lazy-quarry/cpuset.cpus").read_text() == "0-3"
    for below in ("", "/lazy-quarry"):
        assert (tmp_path / f"root/unified{below}/cgroup.subtree_control").read_text().endswith("+cpuset")


@pytest.mark.parametrize("hierarchies", [{"": "", "memory": "memory", "cpuset": "cpuset"}, {"": ""}, {"pids": "pids"}])
def test_an_attempt_is_contained_and_held_to_what_it_asked_for(tmp_path, monkeypatch, hierarchies):
    bases = {each: str(tmp_path / f"{folder}base") for each, folder in hierarchies.items()}
    monkeypatch.setattr(groups, "group_bases", lambda: bases)
    monkeypatch.setattr(groups, "_JOBS_FIRST", 0)
    name, files = (
        "7-1-ab",
        (
            "cgroup.procs",
            "cgroup.kill",
            "memory.max",
            "memory.events",
            "memory.limit_in_bytes",
            "memory.oom_control",
            "cpuset.cpus",
        ),
    )
    held = {each: tmp_path / f"{folder}base" / f"{os.getuid()}-{name}" for each, folder in hierarchies.items()}
    for folder in held.values():
        folder.mkdir(parents=True)
        for each in files:
            (folder / each).touch()
            (folder.parent / each).touch()
    container = held.get("", held.get("pids"))
    assert groups.enter(name) and (container / "cgroup.procs").read_text() == "0"  # the process that writes
    with groups.limits(name, 100, [2, 5]):
        for each in {"memory", "cpuset"} & set(held):
            assert (held[each] / "cgroup.procs").read_text() == "0"
            assert (held[each].parent / "cgroup.procs").read_text() == ""
            assert (held[each] / "memory.limit_in_bytes").read_text() == ""  # this process is still in it
    for each in {"memory", "cpuset"} & set(held):
        assert (held[each].parent / "cgroup.procs").read_text() == "0"  # out again
    limit = held["memory"] / "memory.limit_in_bytes" if "memory" in held else container / "memory.max"
    if "pids" in held:  # that limits neither
        assert not (container / "cpuset.cpus").read_text() + limit.read_text()
    else:
        assert (held.get("cpuset", container) / "cpuset.cpus").read_text() == "2,5"
        assert 100 << 20 < int(limit.read_text()) < 150 << 20

    (container / "cgroup.procs").write_text("12\n0\n13\n")
    assert groups.members(name) == [12, 13]
    assert not groups.overfilled(name)
    told = held["memory"] / "memory.oom_control" if "memory" in held else container / "memory.events"
    told.write_text("low 0\noom_kill 0\n")
    assert not groups.overfilled(name)
    told.write_text("low 0\noom_kill 2\n")
    assert groups.overfilled(name) == ("pids" not in held)
    assert groups.kill(name) and (container / "cgroup.kill").read_text() == "1"
    (container / "cgroup.kill").unlink()
    assert not groups.kill(name)  # an older kernel offers no such file
    for folder in held.values():
        for each in folder.iterdir():  # a real group has no files of its own when it is removed
            each.unlink()
    groups.remove(name)
    assert not any(folder.exists() for folder in held.values()) and groups.members(name) == []


def test_without_groups_nothing_is_missed(monkeypatch):
    monkeypatch.setattr(groups, "group_bases", dict)
    assert not groups.enter("1-1") and groups.members("1-1") == []
    with groups.limits("1-1", 100, [0]):
        pass
    assert not groups.overfilled("1-1") and not groups.kill("1-1")
    groups.remove("1-1")

"""Control groups as files: which hierarchy is taken, and what is written into it."""

import os

import pytest

from lazy_quarry.run.node import groups

VERSION_1 = "8:pids:/own\n6:freezer:/\n4:memory:/elsewhere\n0::/\n"
VERSION_2 = "0::/user.slice/user@1000.service\n"


@pytest.mark.parametrize(
    ("own", "folders", "chosen"),
    [
        (VERSION_2, ["user.slice/user@1000.service"], "user.slice/user@1000.service/lazy-quarry"),
        (VERSION_2, ["unified/user.slice/user@1000.service"], "unified/user.slice/user@1000.service/lazy-quarry"),
        (VERSION_1, ["pids/own", "freezer"], "pids/own/lazy-quarry"),
        (VERSION_1, ["freezer"], "freezer/lazy-quarry"),
        (VERSION_1, ["memory/elsewhere"], None),
        ("0::/a/lazy-quarry\n", ["a/lazy-quarry"], "a/lazy-quarry"),
        ("", [], None),
    ],
)
def test_groups_are_made_where_they_may_be_written(tmp_path, own, folders, chosen):
    (tmp_path / "own").write_text(own)
    for folder in folders:
        (tmp_path / "root" / folder).mkdir(parents=True)
        (tmp_path / "root" / folder / "cgroup.procs").touch()
    groups._base.cache_clear()
    found = groups._base(str(tmp_path / "root"), str(tmp_path / "own"))
    assert found == (None if chosen is None else str(tmp_path / "root" / chosen))
    groups._base.cache_clear()


def test_an_attempt_enters_its_group_is_listed_in_it_and_leaves_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr(groups, "_base", lambda: str(tmp_path))
    assert groups.enter("7-1-ab")
    folder = tmp_path / f"{os.getuid()}-7-1-ab"
    assert (folder / "cgroup.procs").read_text() == "0"  # the process that writes
    (folder / "cgroup.procs").write_text("12\n13\n")
    assert groups.members("7-1-ab") == [12, 13]
    assert not groups.kill("7-1-ab")  # an older kernel offers no such file
    (folder / "cgroup.kill").touch()
    assert groups.kill("7-1-ab") and (folder / "cgroup.kill").read_text() == "1"
    (folder / "cgroup.kill").unlink()
    (folder / "cgroup.procs").unlink()  # a real group has no files of its own when it is removed
    groups.remove("7-1-ab")
    assert not folder.exists() and groups.members("7-1-ab") == []


def test_without_groups_nothing_is_missed(monkeypatch):
    monkeypatch.setattr(groups, "_base", lambda: None)
    assert not groups.enter("1-1") and groups.members("1-1") == []
    groups.remove("1-1")

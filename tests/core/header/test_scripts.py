"""Scripts as people write them: the wrong ones in one folder, with what is to be said of each, and right ones."""

import re
import tomllib
from pathlib import Path

import pytest

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.codes import CODES, KNOWN, table
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.demo.site import oxbow
from lazy_quarry.probe.script import looked_up
from lazy_quarry.probe.slips import SLIPS

SCRIPTS = Path(__file__).parents[2] / "scripts"
EXPECTED = tomllib.loads((SCRIPTS / "wrong" / "expected.toml").read_text())
BESIDE = ("expected.toml", "plain.sh", "results.csv")
RIGHT = sorted(path.name for path in (SCRIPTS / "right").iterdir() if path.is_file())


@pytest.fixture(scope="module")
def programs(tmp_path_factory):
    """A PATH on which everything is that the scripts may count on, whatever this machine has."""
    folder = tmp_path_factory.mktemp("bin")
    for name in (
        "csh",
        "zsh",
        "Rscript",
        "python3",
        "bash",
        "awk",
        "sed",
        "sort",
        "wc",
        "tee",
        "grep",
        "date",
        "basename",
    ):
        (folder / name).write_text("#!/bin/sh\n")
        (folder / name).chmod(0o755)
    return f"{folder}:/usr/bin:/bin"


def findings(path, programs, text=None):
    folder = str(path.parent)
    text = path.read_bytes().decode() if text is None else text
    looked = looked_up(Submission(text, str(path), folder, environment=(("PATH", programs),)))
    return check_script(text, oxbow(), CheckContext("tove", looked)).diagnostics


def test_there_are_enough_of_them():
    assert len(EXPECTED) >= 40 and len(RIGHT) >= 25
    assert {path.name for path in (SCRIPTS / "wrong").iterdir()} - set(BESIDE) == set(EXPECTED)


@pytest.mark.parametrize("name", sorted(EXPECTED))
def test_a_wrong_script_is_told_what_is_wrong_and_nothing_else(name, programs):
    found = findings(SCRIPTS / "wrong" / name, programs)
    assert " ".join(f"{one.code}@{one.line}{'*' if one.fix else ''}" for one in found) == EXPECTED[name]


@pytest.mark.parametrize("name", RIGHT)
def test_a_right_script_is_left_alone(name, programs):
    assert not findings(SCRIPTS / "right" / name, programs)


@pytest.mark.parametrize("name", sorted(name for name, told in EXPECTED.items() if "*" in told))
def test_every_fix_mends_what_it_is_for(name, programs):
    path = SCRIPTS / "wrong" / name
    for one in findings(path, programs):
        if one.fix:
            text = one.fix.apply(path.read_bytes().decode())
            left = [(other.code, other.message) for other in findings(path, programs, text)]
            assert (one.code, one.message) not in left


def test_every_code_that_is_told_stands_in_the_table():
    source = Path(__file__).parents[3] / "src" / "lazy_quarry"
    told = set()
    for path in source.rglob("*.py"):
        told |= set(re.findall(r'(?:error|warning|hint|_note)\(\s*"([a-z-]+)",', path.read_text()))
    assert told - set(KNOWN) == set()
    assert len(KNOWN) == len(CODES)


def test_the_page_of_checks_is_as_the_program_has_them():
    page = Path(__file__).parents[3] / "docs" / "checks.md"
    assert page.read_text() == table({number: (severity.value, words) for number, (severity, words) in SLIPS.items()})

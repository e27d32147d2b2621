"""Scripts as people write them: the wrong ones in one folder, with what is to be said of each, and right ones."""

import re
import tomllib
from pathlib import Path

import pytest

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.codes import CODES, KNOWN, table
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.values import replace
from lazy_quarry.demo.site import oxbow
from lazy_quarry.probe.script import looked_up
from lazy_quarry.probe.shellcheck import SLIPS

SCRIPTS = Path(__file__).parents[2] / "scripts"
EXPECTED = tomllib.loads((SCRIPTS / "wrong" / "expected.toml").read_text())
BESIDE = ("expected.toml", "plain.sh", "results.csv")
RIGHT = sorted(path.name for path in (SCRIPTS / "right").iterdir() if path.is_file())


@pytest.fixture(scope="module")
def programs(tmp_path_factory):
    """A PATH on which everything is that the scripts may count on, and no MPI, whatever this machine has."""
    folder, usual = tmp_path_factory.mktemp("bin"), tmp_path_factory.mktemp("usual")
    for program in Path("/usr/bin").iterdir():
        if not program.name.startswith("mpi"):
            (usual / program.name).symlink_to(program)
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
    return f"{folder}:{usual}"


def findings(path, programs, text=None):
    folder = str(path.parent)
    text = path.read_bytes().decode() if text is None else text
    looked = looked_up(Submission(text, str(path), folder, environment=(("PATH", programs),)))
    return check_script(text, oxbow(), CheckContext("tove", looked)).diagnostics


def test_the_corpus_has_enough_scripts():
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


@pytest.mark.parametrize(
    ("path", "text", "runs"),
    [
        ("a.py", "echo hello", "python3"),
        ("a.R", "x", "Rscript"),
        ("a.jl", "x", "julia"),
        ("job", "import sys\nprint(sys.argv)", "python3"),
        ("job", "library(stats)\nx <- 3", "Rscript"),
        ("job", "using LinearAlgebra\n", "julia"),
        ("job", "use strict;\nmy $x = 3;", "perl"),
        ("job", "set -e\nexport A=3\nsurge", "bash"),
        ("", "", "bash"),
    ],
)
def test_the_interpreter_that_is_offered_follows_from_name_and_text(path, text, runs):
    [one] = [
        one
        for one in check_script(text, oxbow(), CheckContext("tove", Submission(text, path))).diagnostics
        if one.code == "interpreter-missing"
    ]
    assert one.fix.apply(text).startswith(f"#!/usr/bin/env {runs}\n")


def test_modules_are_missed_where_a_site_has_none():
    text = '#!/bin/bash\n# /// job\n# walltime = "1m"\n# memory = "1 GiB/core"\n# ///\nmodule load gcc/12\ntrue\n'
    site = replace(oxbow(), software=())
    found = [
        one
        for one in check_script(text, site, CheckContext("tove", Submission(text))).diagnostics
        if one.code == "module"
    ]
    assert [(one.line, "offers no modules, so gcc/12 can't be loaded" in one.message) for one in found] == [(6, True)]

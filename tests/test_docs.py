"""The documentation: links lead somewhere, every command in it is one, and what a person is told to type works."""

import json
import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import click
import pytest
from matplotlib import get_cachedir

from lazy_quarry.cli.command_table import COMMANDS
from lazy_quarry.cli.main import Commands
from lazy_quarry.core.search.fields import FIELDS
from lazy_quarry.demo.own_site import rehearsal_site
from tests.conftest import PATIENCE_S

ROOT = Path(__file__).parents[1]
PAGES = sorted([*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")])
FENCE = re.compile(r"^```(\w*)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
LINK = re.compile(r"\[[^\]]*\]\(([^)\s]+)\)")


def name_of(page):
    return str(page.relative_to(ROOT))


def anchors(text):
    plain = FENCE.sub("", text)
    heads = re.findall(r"^#+ (.*)$", plain, re.MULTILINE)
    return {re.sub(r"[^\w\- ]", "", head.lower()).strip().replace(" ", "-") for head in heads}


@pytest.mark.parametrize("page", PAGES, ids=name_of)
def test_every_link_leads_somewhere(page):
    text = page.read_text()
    for target in LINK.findall(FENCE.sub("", text)):
        if target.startswith(("http://", "https://", "mailto:")):
            continue
        path, _, anchor = target.partition("#")
        there = (page.parent / path).resolve() if path else page
        assert there.exists(), f"{page.name} links to {target}"
        if anchor and there.suffix == ".md":
            assert anchor in anchors(there.read_text()), f"{page.name} links to {target}"


def test_the_fields_of_a_search_are_listed_as_they_are():
    page = (ROOT / "docs" / "review.md").read_text()
    for name, field in FIELDS.items():
        assert f"| `{name}` | {field.means} |" in page


def commands_in(text):
    """Every command line of ours in fenced blocks, without what the shell does around it."""
    for kind, block in FENCE.findall(text):
        if kind not in ("", "bash", "sh"):
            continue
        here = ""
        for line in re.sub(r"\\\n\s*", " ", block).splitlines():
            if here:
                here = "" if line.strip() == here else here
                continue
            if match := re.search(r"<<'?(\w+)'?", line):
                here = match[1]
                continue
            for part in re.split(r"\s(?:&&|\|\||\||;)\s", line.strip()):
                if part.startswith("lq "):
                    yield part


@pytest.mark.parametrize("page", PAGES, ids=name_of)
def test_every_command_in_it_is_understood(page):
    group = Commands("lq")
    for line in commands_in(page.read_text()):
        words = shlex.split(line, comments=True)[1:]
        words = [word for word in words if not re.fullmatch(r"\d?>.*|\[.*|.*\]|\.\.\.", word)]
        if not words or words[0] in ("phase", "ranks", "spread") or words[0].startswith("-"):
            continue
        assert words[0] in COMMANDS, line
        command = group.get_command(click.Context(group), words[0])
        parser = command.make_parser(click.Context(command, ignore_unknown_options=False))
        try:
            parser.parse_args(words[1:])
        except click.UsageError as fault:
            raise AssertionError(f"{page.name}: {line}: {fault.message}") from None


@pytest.fixture
def typed(machine):
    """Lines typed into a shell in which ``lq`` is ours."""
    home = machine.work / "home"
    (home / "bin").mkdir(parents=True)
    (home / "bin" / "lq").write_text(f'#!/bin/sh\nexec {shlex.quote(sys.executable)} -m lazy_quarry "$@"\n')
    (home / "bin" / "lq").chmod(0o755)
    environment = {**machine.environment, "HOME": str(home), "PATH": f"{home / 'bin'}:{os.environ['PATH']}"}
    environment["MPLCONFIGDIR"] = get_cachedir()  # the list of this machine's fonts, which a new home would make anew

    def run(block):
        marked = "\n".join(["set -e", block])
        return subprocess.run(
            ["bash", "-c", marked],
            cwd=machine.work,
            env=environment,
            capture_output=True,
            text=True,
            timeout=4 * PATIENCE_S,
        )

    run.environment, run.work = environment, machine.work
    return run


def block_of(page, kind, number=0):
    return [block for known, block in FENCE.findall((ROOT / page).read_text()) if known == kind][number]


@pytest.mark.parametrize("page", ["README.md", "docs/shell.md"])
def test_every_line_that_a_newcomer_is_told_to_type_works(typed, page):
    lines = block_of(page, "bash").splitlines()
    done = typed("\n".join(line for line in lines if not line.startswith("lq shell")))  # that one needs a terminal
    assert done.returncode == 0, done.stderr


def test_the_commands_on_the_page_of_the_books_work(typed):
    sites = typed.work / "sites"
    sites.mkdir()
    user = os.environ.get("USER") or "root"
    (sites / "machine.toml").write_text(
        f'[[accounts]]\nname = "tide-surge"\nbudget = 90000\nusers = ["salka", "{user}"]\n'
        '[[accounts]]\nname = "silt"\nbudget = 90000\n'
    )
    typed.environment["LQ_SITES"] = str(sites)
    assert typed("lq submit --set account=tide-surge --set walltime=1m -- sleep 0.2; lq wait 1").returncode == 0
    for number in range(2):
        done = typed(block_of("docs/ledger.md", "", number))
        assert done.returncode == 0, (number, done.stderr)
    assert "noor" in done.stdout
    done = typed(block_of("docs/reports.md", ""))
    assert done.returncode == 0, done.stderr
    assert "as it was" in done.stdout and "0 7 1 * *" in done.stdout and "# EOF" in done.stdout
    (typed.work / "weir.toml").write_text(block_of("docs/reports.md", "toml"))
    assert rehearsal_site(typed.work / "weir.toml").cores == 18 * 32


def test_the_example_site_file_is_one(typed):
    path = typed.work / "example.toml"
    text = block_of("docs/sites.md", "toml")
    # Nodes and queues that this machine hasn't are what a reader puts in their place.
    text = re.sub(r"^(nodes|traits|queues) +=.*$", "", text, flags=re.MULTILINE).replace('parent = "estuary"', "")
    path.write_text(text)
    done = typed(f"lq site check {path}")
    assert done.returncode == 0, done.stdout


SOLVE = """#!/bin/bash
# /// job
# name = "solve"
# walltime = "2m"
# memory = "64 MiB/core"
# ranks = {}
# ///
cells=${{cells:-200}}
echo "residual {}e-3"; echo "t = $((cells * 2))"
sleep 1.$(( cells % 7 + 1 ))
"""
SWEEP = """#!/bin/bash
# /// job
# name = "surge-north"
# walltime = "2m"
# memory = "64 MiB/core"
# [array.sweep]
# grid = ["fine", "coarse"]
# ///
echo "residual 4e-3 on $grid"
"""


def test_the_other_commands_that_people_are_told_of_work_too(typed):
    """With jobs, nodes and accounts of this machine in the place of those that are told of."""
    sites = typed.work / "sites"
    sites.mkdir()
    (sites / "machine.toml").write_text(
        "".join(f'[[accounts]]\nname = "{name}"\nbudget = 90000\n' for name in ("tide-surge", "silt"))
    )
    typed.environment["LQ_SITES"] = str(sites)
    for name, ranks in (("one", 1), ("two", 2), ("solve", 1)):
        (typed.work / f"{name}.sh").write_text(SOLVE.format(ranks, ranks))
    (typed.work / "sweep.sh").write_text(SWEEP)
    assert (
        typed(
            "lq submit one.sh && lq submit two.sh && lq submit one.sh && lq submit sweep.sh; lq wait 1 2 3 4"
        ).returncode
        == 0
    )
    node = json.loads(typed("lq survey --format json").stdout)["nodes"][0]["name"]
    here = [
        ("4127", "1"),
        ("4130", "2"),
        ("4133", "3"),
        ("c01..c04", node),
        ("c07", node),
        ("2026-12-03", "2099-12-03"),
    ]
    here += [("[--ics site.ics]", "--ics site.ics"), ("--make 20000", "--make 500")]
    wrong = []
    for page in ("advice.md", "policies.md", "review.md", "sites.md"):
        for line in commands_in((ROOT / "docs" / page).read_text()):
            for told, own in here:
                line = line.replace(told, own)
            done = typed(line)
            if done.returncode not in (0, 1) or "Traceback" in done.stderr:
                wrong.append((page, line, done.returncode, done.stderr[-300:]))
    assert not wrong


INSIDE = """#!/bin/bash
# /// job
# walltime = "3m"
# ranks = 2
# memory = "64 MiB/core"
# ///
set -e
PATH="$PWD:$PATH" step=3
"""
PROGRAMS = ("solve", "write", "surge", "fit", "worker")


def test_the_commands_on_the_page_of_inside_a_job_work_in_one(typed):
    """With programs of little work in the place of those that are told of."""
    for name in PROGRAMS:
        (typed.work / name).write_text("#!/bin/sh\necho $*\n")
    (typed.work / "mpirun").write_text('#!/bin/sh\nshift 2\nexec "$@"\n')
    for name in (*PROGRAMS, "mpirun"):
        (typed.work / name).chmod(0o755)
    (typed.work / "prepare.py").write_text("print(1)\n")
    (typed.work / "cases.csv").write_text("drag\n0.1\n0.2\n")
    (typed.work / "commands.txt").write_text("echo one\necho two\n")
    blocks = [block for kind, block in FENCE.findall((ROOT / "docs" / "inside.md").read_text()) if kind == "sh"]
    assert len(blocks) > 3
    for number, block in enumerate(blocks, 1):
        (typed.work / f"inside-{number}.sh").write_text(INSIDE + block)
        typed(f"lq submit inside-{number}.sh")
    done = typed(
        "; ".join(f"lq wait {number} || lq show {number}; lq output {number}" for number in range(1, len(blocks) + 1))
    )
    states = [row["state"] for row in json.loads(typed("lq jobs --ended --format json").stdout)]
    assert states == ["done"] * len(blocks), done.stdout[-3000:]


def test_completion_is_had_as_the_readme_says(typed):
    lines = [block for kind, block in FENCE.findall((ROOT / "README.md").read_text()) if "completion" in block]
    done = typed(lines[0].replace("/path/to/lazy-quarry/.venv/bin", "/tmp") + "complete -p lq")
    assert done.returncode == 0 and "lq" in done.stdout, done.stderr

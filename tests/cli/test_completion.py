"""Completion, asked for by a real bash."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from lazy_quarry.cli.commands.completion import SHELLS
from tests.conftest import script

BIN = Path(sys.executable).parent
ASK = """
eval "$(lq completion bash)"
COMP_LINE="$1" COMP_POINT="${#1}"
shift
COMP_WORDS=("$@") COMP_CWORD=$(($# - 1))
_lazy_quarry_complete lq
printf '%s\\n' "${COMPREPLY[@]}"
"""


def completed(machine, line, *words):
    """The words that bash would offer at the end of a line; ``words`` are the line as readline parts it."""
    environment = machine.environment | {"PATH": f"{BIN}:{os.environ['PATH']}"}
    run = subprocess.run(
        ["bash", "--norc", "-c", ASK, "bash", line, *words], capture_output=True, text=True, env=environment
    )
    return run.stdout.split()


def test_commands_options_and_words_are_completed(machine):
    assert completed(machine, "lq su", "lq", "su") == ["submit", "survey"]
    assert {"--ended", "--everyone", "--columns"} <= set(completed(machine, "lq jobs --", "lq", "jobs", "--"))
    assert completed(machine, "lq node cl", "lq", "node", "cl") == ["close"]
    assert completed(machine, "lq jobs --format ", "lq", "jobs", "--format", "") == ["text", "json"]
    assert set(completed(machine, "lq completion ", "lq", "completion", "")) == set(SHELLS)


def test_without_an_engine_none_is_started_for_a_completion(machine):
    assert completed(machine, "lq show ", "lq", "show", "") == []
    assert not machine.state.exists() or machine.processes("lazy_quarry.link.server") == []


def test_jobs_keys_and_values_are_completed(machine):
    job = machine.submit("sleep 60", "not-before=2099-01-01T00:00:00Z")
    assert completed(machine, "lq why ", "lq", "why", "") == [str(job)]
    line = "lq change 1 --set "
    assert completed(machine, f"{line}wall", *line.split(), "wall") == ["walltime="]
    assert completed(machine, f"{line}queue=h", *line.split(), "queue", "=", "h") == ["here"]
    assert completed(machine, f"{line}tier=", *line.split(), "tier", "=") == ["steady", "trial"]
    owner = machine.show(job)["account"]
    assert completed(machine, f"{line}account=", *line.split(), "account", "=") == [owner]


@pytest.mark.skipif(shutil.which("tmux") is None, reason="needs tmux")
def test_a_tab_in_an_interactive_bash_completes(machine):
    from tests.terminal.test_whole_path import Terminal

    (machine.work / "job.sh").write_text(script('walltime = "1m"'))
    environment = machine.environment | {"PATH": f"{BIN}:{os.environ['PATH']}", "PS1": "ready> "}
    terminal = Terminal("bash --norc --noprofile -i", environment, machine.work, (100, 30))
    try:
        terminal.sees("ready>")
        terminal.type('eval "$(lq completion bash)"; echo loa"ded"')
        terminal.keys("Enter")
        terminal.sees("loaded")
        terminal.type("lq rese")
        terminal.keys("Tab")
        terminal.sees("lq reserv")
        terminal.keys("Tab", "Tab")
        terminal.sees("reservations")
    finally:
        terminal.close()


def test_the_manual_page_has_every_command_and_is_as_the_program_prints_it():
    from click.testing import CliRunner

    from lazy_quarry.cli.command_table import COMMANDS
    from lazy_quarry.cli.main import start

    told = CliRunner().invoke(start, ["manual"])
    assert told.exit_code == 0
    assert (Path(__file__).parents[2] / "docs" / "lq.1").read_text() == told.output
    for name, (_, words) in COMMANDS.items():
        assert f".B lq {name}".replace("-", "\\-") in told.output and words[:20].replace("-", "\\-") in told.output
    assert not [
        line for line in told.output.splitlines() if line.startswith(("'", ".")) and line.split()[0] not in MACROS
    ]


MACROS = (".TH", ".SH", ".B", ".I", ".TP", ".RS", ".RE")

"""Templates of drafts: a picture of a shape, and the script for it."""

import re
import shlex
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct

from lazy_quarry.core.units import exact_size
from lazy_quarry.views.board import Board
from lazy_quarry.views.outcomes import RoomView


class Fitting(Struct, frozen=True):
    """Sizes that suit the site in use."""

    threads: int = 8
    nodes: int = 1
    each: int = 8
    widest: int = 8
    gpu_queue: str = ""
    mpi: str = ""


class Template(Struct, frozen=True):
    """A shape to begin from. ``picture`` is two lines: nodes with their cores, a sign for each rank."""

    name: str
    words: str
    picture: tuple[str, str]
    lines: Callable[[Fitting], Sequence[str]]
    body: str
    needs_gpus: bool = False


def _plain(*lines: str) -> Callable[[Fitting], Sequence[str]]:
    return lambda fitting: lines


def _mpi(fitting: Fitting) -> Sequence[str]:
    return (f"nodes    = {fitting.nodes}", f"ranks-per-node = {fitting.each}", *_with_mpi(fitting))


def _with_mpi(fitting: Fitting) -> Sequence[str]:
    return (f'modules  = ["{fitting.mpi}"]',) if fitting.mpi else ()


def _whole(fitting: Fitting) -> Sequence[str]:
    shape = (f"nodes    = {fitting.nodes}", f"ranks-per-node = {fitting.widest}", "whole-nodes = true")
    return (*shape, *_with_mpi(fitting))


def _gpu(fitting: Fitting) -> Sequence[str]:
    queue = (f'queue    = "{fitting.gpu_queue}"',) if fitting.gpu_queue else ()
    return (*queue, "gpus     = 1", f"threads  = {min(4, fitting.threads)}")


TEMPLATES = (
    Template(
        "one core",
        "one program on one core",
        ("0·······", ""),
        _plain(),
        'echo "on $(hostname), with $LQ_CORES core"',
    ),
    Template(
        "threads",
        "one program with many threads, on one node",
        ("00000000", ""),
        lambda fitting: (f"threads  = {fitting.threads}",),
        'echo "$OMP_NUM_THREADS threads on $(hostname)"',
    ),
    Template(
        "MPI over nodes",
        "many ranks, on several nodes",
        ("0123····", "4567····"),
        _mpi,
        'mpirun --hostfile "$LQ_NODES" ./program',
    ),
    Template(
        "whole nodes",
        "nodes that nobody shares, with a rank on every core",
        ("01234567", "89abcdef"),
        _whole,
        'mpirun --hostfile "$LQ_NODES" ./program',
    ),
    Template(
        "array",
        "the same for each number of a row",
        ("1·2·3·4·", "5·6·7·8·"),
        _plain("", "[array]", 'tasks    = "1..40"', "at-once  = 10"),
        'echo "task $LQ_TASK"',
    ),
    Template(
        "sweep",
        "every combination of some parameters",
        ("aA aB aC", "bA bB bC"),
        _plain("", "[array.sweep]", "level    = [0.5, 1.0, 1.5, 2.0]", 'grid     = ["north", "south"]'),
        'echo "level $level on the grid $grid"',
    ),
    Template(
        "GPU",
        "a program on a GPU, with some cores to feed it",
        ("0000 ▣··", ""),
        _gpu,
        'echo "$LQ_GPUS GPU on $(hostname)"',
        needs_gpus=True,
    ),
    Template(
        "list of commands",
        "the lines of a file, as many side by side as there are cores",
        ("a b c d ", "e f g h "),
        lambda fitting: (f"threads  = {fitting.threads}",),
        "lq spread --lines commands.txt -- bash -c '{line}'  # a command in each line; run again, what is done is skipped",
    ),
    Template(
        "staged through scratch",
        "inputs copied to a disk of the node, results back, however it ends",
        ("▼0▲·····", ""),
        _plain('stage    = { in = ["inputs"], out = ["results"] }'),
        'cd "$LQ_SCRATCH"\nmkdir -p results\nls inputs > results/list.txt',
    ),
    Template(
        "resumable",
        "saves its work before its end, goes back to the queue and carries on",
        ("0──▸0──▸", ""),
        _plain('warn     = "5m"', 'at-overtime = "again"'),
        'state="state-$LQ_JOB"\n'
        "stop=\n"
        "trap 'stop=yes' USR1\n"
        '[[ -e $state ]] || echo 0 > "$state"\n'
        'step=$(< "$state")\n'
        'lq phase "from step $step" -- true  # attempts that begin where the last did get no further: after three it is held\n'
        "while [[ -z $stop ]] && ((step < 1000)); do\n"
        "  sleep 1  # a step of the work\n"
        "  step=$((step + 1))\n"
        '  echo "$step" > "$state"\n'
        "done\n"
        "if ((step < 1000)); then\n"
        "  sleep infinity & wait  # saved: wait for the end of the walltime\n"
        "fi",
    ),
)


def fitting(board: Board | None) -> Fitting:
    """Sizes that suit the site: half of a node's cores, two nodes where there are two."""
    if board is None:
        return Fitting()
    nodes = [node for node in board.nodes if board.site.default_queue in node.queues] or list(board.nodes)
    widest = min((node.cores for node in nodes), default=8)
    with_gpus = next((node for node in board.nodes if node.gpus), None)
    queue = with_gpus.queues[0] if with_gpus and board.site.default_queue not in with_gpus.queues else ""
    mpi = next((one.name for one in board.site.software if "mpirun" in one.programs or one.name.startswith("mpi/")), "")
    return Fitting(min(8, widest), min(2, len(nodes)), min(8, widest), widest, queue, mpi)


def offered(board: Board | None) -> list[Template]:
    """The shapes that the site can serve."""
    gpus = board is not None and any(node.gpus for node in board.nodes)
    return [template for template in TEMPLATES if gpus or not template.needs_gpus]


def script(board: Board | None, name: str, lines: Sequence[str], body: str) -> str:
    """A script for the site in use: its default account and queue, and what is asked for besides."""
    header = [f'name     = "{name}"']
    if board and board.person.account:
        header.append(f'account  = "{board.person.account}"')
    asked = {line.partition("=")[0].strip() for line in lines}
    queue = next((one for one in board.site.queues if one.name == board.site.default_queue), None) if board else None
    if queue and "queue" not in asked:
        header.append(f'queue    = "{queue.name}"')
    if "walltime" not in asked:
        header.append('walltime = "30m"')
    if "memory" not in asked:
        each = queue.memory_default_mib if queue else 2048
        header.append(f'memory   = "{exact_size(each)}/core"')
    plain = [line for line in lines if not line.startswith("[") and line]
    tables = list(lines[next((at for at, line in enumerate(lines) if line.startswith("[")), len(lines)) :])
    plain = [line for line in plain if line not in tables]
    task = "-{task}" if tables else ""
    header += [*plain, f'output   = "logs/{{name}}-{{job}}{task}.txt"']
    if tables:
        header += ["", *tables]
    block = [f"# {line}" if line else "#" for line in header]
    return "\n".join(["#!/usr/bin/env bash", "# /// job", *block, "# ///", "set -euo pipefail", "", body, ""])


def fill(template: Template, board: Board | None) -> str:
    """The template's script for the site in use."""
    name = re.sub(r"[^a-z0-9]+", "-", template.name.lower())
    return script(board, name, template.lines(fitting(board)), template.body)


def from_line(line: str, board: Board | None) -> str:
    """A script for one command line."""
    return script(board, _named_after(line), (), line.strip())


def from_commands(commands: Sequence[str], board: Board | None, name: str = "") -> str:
    """A script of commands one after another, as they were given in a shell."""
    return script(board, name or _named_after(commands[0] if commands else ""), (), "\n".join(commands))


def from_file(path: Path, count: int, board: Board | None) -> str:
    """A script that runs each line of a file of commands, side by side on its cores; the file stays as it is."""
    threads = max(1, min(fitting(board).widest, count))
    quoted = shlex.quote(str(path))
    body = f"lq spread --lines {quoted} -- bash -c '{{line}}'"
    return script(board, _named_after(path.stem), (f"threads  = {threads}",), body)


def _named_after(line: str) -> str:
    words = line.split()
    first = Path(words[0]).name if words else ""
    return re.sub(r"[^A-Za-z0-9._-]+", "", first)[:64] or "commands"


def from_room(room: RoomView, board: Board | None) -> str:
    """A script that asks for just what there is room for."""
    lines = [f"{key:<8} = {_toml(value)}" for key, value in room.header]
    return script(board, "room", lines, 'echo "$LQ_CORES cores on $(sort -u "$LQ_NODES" | paste -s -d " ")"')


def _toml(value: str | int | bool) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return f'"{value}"' if isinstance(value, str) else str(value)

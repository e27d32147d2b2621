"""What a draft can begin from: a picture of a shape, and the script for it."""

from dataclasses import dataclass

from lazy_quarry.views import Board


@dataclass(frozen=True, slots=True)
class Template:
    """A shape to begin from. ``picture`` is a few lines of nodes with their cores."""

    name: str
    words: str
    picture: tuple[str, ...]
    cores: int
    lines: tuple[str, ...]
    command: str


ONE_CORE = Template(
    "one core",
    "one program on one core",
    ("0·······", "", ""),
    1,
    ('memory   = "2 GiB/core"', 'walltime = "30m"'),
    'echo "on $(hostname), with $LQ_CORES core"',
)
THREADS = Template(
    "threads on one node",
    "one program with many threads, on one node",
    ("00000000", "", ""),
    8,
    ("ranks    = 1", "threads  = {threads}", 'memory   = "2 GiB/core"', 'walltime = "1h"'),
    'echo "$OMP_NUM_THREADS threads on $(hostname)"',
)
MPI = Template(
    "MPI over nodes",
    "many ranks on several nodes",
    ("0123····", "4567····", ""),
    16,
    ("nodes    = {nodes}", "ranks    = {ranks}", 'memory   = "2 GiB/core"', 'walltime = "1h 30m"'),
    'mpirun --hostfile "$LQ_NODES" ./program',
)
TEMPLATES = (ONE_CORE, THREADS, MPI)


def fill(template: Template, board: Board | None) -> str:
    """The template's script for the site in use: its default queue, account and sizes."""
    largest = max((node.cores for node in board.nodes), default=8) if board else 8
    count = len(board.nodes) if board else 1
    nodes = min(2, count)
    numbers = {
        "threads": min(8, largest),
        "nodes": nodes,
        "ranks": nodes * min(8, largest),
    }
    lines = ["#!/usr/bin/env bash", "# /// job", f'# name     = "{template.name.split()[0].lower()}"']
    if board and board.account:
        lines.append(f'# account  = "{board.account}"')
    if board and board.queues:
        lines.append(f'# queue    = "{board.queues[0].name}"')
    lines += [f"# {line}".format(**numbers) for line in template.lines]
    if template is MPI and board:
        mpi = next((module for module in board.modules if module.startswith("mpi/")), None)
        if mpi:
            lines.append(f'# modules  = ["{mpi}"]')
    lines += ['# output   = "logs/{name}-{job}.txt"', "# ///", "set -euo pipefail", "", template.command, ""]
    return "\n".join(lines)

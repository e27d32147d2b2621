"""Traces replayed from the command line: read, run, print, write."""

import sys
from collections.abc import Callable, Iterator, Sequence
from io import TextIOWrapper
from typing import Any

from lazy_quarry.core.formats.csv_rows import csv_pieces
from lazy_quarry.core.units import format_duration, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import given
from lazy_quarry.run.writable import write_pieces
from lazy_quarry.study.forecast_groups import csv_rows
from lazy_quarry.study.forecasting import trace_forecasts
from lazy_quarry.study.replay import POLICIES, Policy, Replayed, replay
from lazy_quarry.study.studied import ForecastMade
from lazy_quarry.study.swf import Trace, read_trace, trace_lines
from lazy_quarry.study.workload import make_trace


def policies_of(words: str) -> list[Policy]:
    """``easy,planned`` as policies. Raises :class:`QuarryError` for one that isn't there."""
    found: list[Policy] = []
    for word in words.split(","):
        known = next((policy for policy in POLICIES if policy == word.strip()), None)
        if known is None:
            raise QuarryError(f'there is no policy "{word.strip()}"; there are {", ".join(POLICIES)}')
        found.append(known)
    return list(dict.fromkeys(found))


def read_file(path: str, cores: int) -> Trace:
    """A trace from a file, ``-`` for standard input. Raises :class:`QuarryError` when it cannot be read."""
    try:
        if path == "-":
            return read_trace(sys.stdin, cores, "standard input")
        with TextIOWrapper(given.opened_by_command(path), encoding="utf-8", errors="replace") as lines:
            return read_trace(lines, cores, path)
    except OSError as fault:
        raise QuarryError(f"{path} cannot be read: {fault.strerror}") from None


def make(path: str, count: int, cores: int, load: float, seed: int) -> str:
    """Write a made-up trace; returns a sentence on it."""
    jobs = make_trace(count, cores, load, seed)
    remarks = [
        f"made up; {plural(cores, 'core')} at load {load:g}, seed {seed}",
        "sizes, run times, arrivals: Lublin and Feitelson 2003",
    ]
    write_pieces(path, (f"{line}\n" for line in trace_lines(jobs, cores, remarks)))
    days = jobs[-1].submit_s / 86_400 if jobs else 0
    return f"{path}: {plural(count, 'job')} over {days:,.1f} days, for {plural(cores, 'core')} at load {load:g}"


def run(trace: Trace, cores: int, policies: Sequence[Policy], quiet: bool) -> list[Replayed]:
    """The trace under each policy. Progress is printed to standard error if that is a terminal."""
    return [replay(trace, cores, policy, _teller(policy, len(trace.jobs), quiet)) for policy in policies]


def forecast(trace: Trace, cores: int, sample: int, path: str, quiet: bool) -> list[ForecastMade]:
    """Try forecasts on a trace, and write them as CSV: instants in the trace's seconds, empty where nothing was said."""
    made = trace_forecasts(trace, cores, _teller("planned", len(trace.jobs), quiet) or (lambda started: None), sample)
    write_pieces(path, csv_pieces(csv_rows(made)))
    return made


def _teller(policy: str, count: int, quiet: bool) -> Callable[[int], None] | None:
    if quiet or not sys.stderr.isatty() or count < 20_000:
        return None

    def told(done: int) -> None:
        line = f"\r{policy}: {done:,} of {count:,} " if done < count - 4096 else "\r" + " " * 60 + "\r"
        print(line, end="", file=sys.stderr, flush=True)

    return told


def table(replays: Sequence[Replayed]) -> Iterator[str]:
    """A line a policy, for people."""
    yield f"{'policy':<12}{'jobs':>9}{'left out':>10}{'makespan':>12}{'wait mean':>12}{'wait 95%':>12}{'slowdown':>10}{'use':>8}"
    for one in replays:
        spans = [format_duration(seconds) for seconds in (one.makespan_s, one.wait_mean_s, one.wait_p95_s)]
        yield (
            f"{one.policy:<12}{len(one.starts):>9,}{one.trace.left_out:>10,}{spans[0]:>12}{spans[1]:>12}{spans[2]:>12}"
            f"{one.slowdown_mean:>10.2f}{one.use:>8.1%}"
        )


def as_json(one: Replayed) -> dict[str, Any]:
    """The figures of one policy; times in seconds."""
    return {
        "policy": one.policy,
        "jobs": len(one.starts),
        "left_out": one.trace.left_out,
        "makespan_s": one.makespan_s,
        "wait_mean_s": one.wait_mean_s,
        "wait_p95_s": one.wait_p95_s,
        "slowdown_mean": one.slowdown_mean,
        "use": one.use,
    }


def write_schedule(path: str, one: Replayed, cores_each: int) -> None:
    """When each job ran, as CSV: job, submit, start, end in the trace's seconds, cores, nodes at the least."""
    rows: list[list[object]] = [["job", "submit", "start", "end", "cores", "nodes"]]
    for job, start in zip(one.trace.jobs, one.starts, strict=True):
        times = [_plain(value) for value in (job.submit_s, start, start + job.run_s)]
        rows.append([job.number, *times, job.cores, -(-job.cores // cores_each)])
    write_pieces(path, csv_pieces(rows))


def _plain(seconds: float) -> float:
    return int(seconds) if seconds == int(seconds) else seconds

"""Advice on the next request."""

from collections.abc import Iterator
from typing import Any

import click

from lazy_quarry.cli.options import client_of, format_option, is_json, print_json, print_lines, state_option
from lazy_quarry.core.units import exact_duration, exact_size, format_duration, format_instant
from lazy_quarry.views.advice_view import Advised
from lazy_quarry.wording.advice_words import shorter_words


@click.command("advise")
@click.argument("name", metavar="NAME|JOB")
@state_option
@format_option
def advise_command(name: str, state: str, form: str) -> None:
    json_too = is_json(form)
    advised = client_of(state).advise(name)
    if json_too:
        print_json(advice_json(advised))
    else:
        print_lines(advice_lines(advised))


def advice_json(one: Advised) -> dict[str, Any]:
    """Advice; ``memory_mib`` is the total for ``cores``. What stays as it is, is null.

    ``promise`` is the share of further runs that may need more; null where nothing is promised, and ``why`` says the reason.
    """
    return {
        "name": one.name,
        "job": one.job,
        "runs": one.runs,
        "promise": one.promise,
        "why": one.doubt or None,
        "walltime_s": one.walltime_s,
        "memory_mib": one.memory_mib * one.cores if one.memory_mib else None,
        "cores": one.cores,
        "saves_core_hours": round(one.saved_core_hours, 3),
        "starts_sooner_s": one.sooner_s,
        "reason": one.reason,
        "shorter": [
            {
                "key": shorter.key,
                "set": shorter.setting,
                "enough_for": shorter.count,
                "runs": shorter.runs,
                "costs": shorter.costs,
                "start": format_instant(shorter.starts_ms) if shorter.starts_ms is not None else None,
            }
            for shorter in one.shorter
        ],
        "set": dict(one.settings),
    }


def advice_lines(one: Advised) -> Iterator[str]:
    """Advice, for people."""
    yield f"{one.name}, from {one.runs:,} {'run' if one.runs == 1 else 'runs'}"
    asked, memory = exact_duration(one.requested_s), f"{exact_size(one.requested_mib)}/core"
    yield f"  walltime  {asked:>12} -> {exact_duration(one.walltime_s) if one.walltime_s else 'as it is'}"
    yield f"  memory    {memory:>12} -> {f'{exact_size(one.memory_mib)}/core' if one.memory_mib else 'as it is'}"
    yield f"  cores     {one.cores:>12}    {one.busy:.1f} busy at most"
    yield one.reason
    for shorter in one.shorter:
        yield shorter_words(shorter, one.start_ms)
    if one.saved_core_hours >= 0.01:
        yield f"These runs requested {one.saved_core_hours:,.1f} core-hours more than the advice would have, and did not use them."
    if one.sooner_s:
        yield f"With it, it would start {format_duration(one.sooner_s)} sooner if it were submitted now."
    if one.settings:
        settings = " ".join(f"--set '{key}={value}'" for key, value in one.settings)
        yield f"  lq again {one.job} {settings}"

"""The findings of a search, page by page, and as CSV."""

import sys

from lazy_quarry.core.formats.csv_rows import csv_text
from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.errors import QuarryError
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.json_form import job_json

PAGE = 1_000
CSV_COLUMNS = (
    "job,task,name,state,user,account,queue,tier,submitted,started,ended,cores,gpus,memory_mib,walltime_s,elapsed_s,cpu_s,"
    "memory_peak_mib,read_bytes,written_bytes,exit,signal,outcome_reason,charge_core_hours,parameters,output"
)


def found_by(client: SiteClient, where: str, ended: bool, everyone: bool, sort: str, limit: int) -> list[JobView]:
    """All that a search finds, up to a number; it is told when some have not been looked at yet."""
    views = list[JobView]()
    while len(views) < limit:
        page = client.search(where, ended, everyone, sort, min(PAGE, limit - len(views)), len(views))
        views += page.jobs
        if not page.more or not page.jobs:
            if page.behind:
                print(
                    "lazy-quarry: jobs that ended lately are not looked through yet; ask again in a moment",
                    file=sys.stderr,
                )
            break
    return views


def jobs_csv(views: list[JobView], columns: str) -> str:
    """Jobs as CSV; the columns are the names of the JSON form, in its units."""
    rows = [job_json(view) for view in views]
    chosen = [name.strip() for name in (columns or CSV_COLUMNS).split(",")]
    more = rows[0] if rows else ("why", "nodes", "verdict", "reason", "attempt", "forecast", "errors")
    known = dict.fromkeys((*CSV_COLUMNS.split(","), *more))
    for name in chosen:
        if name not in known:
            raise QuarryError(f'there is no column "{name}" in CSV{nearest(name, known)}')
    return csv_text([chosen, *([_cell(row.get(name)) for name in chosen] for row in rows)])


def _cell(value: object) -> object:
    if isinstance(value, dict):
        return " ".join(f"{name}={each}" for name, each in value.items())
    return " ".join(map(str, value)) if isinstance(value, list) else value

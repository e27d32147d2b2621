"""All that somebody needs to help with a run, packed in one file, with a record in the open form of RO-Crate 1.2.

The record follows the Process Run Crate profile: the run is a CreateAction with its script as instrument. The environment is
left out, for there may be secrets in it.
"""

import json
import zipfile
from collections.abc import Sequence
from datetime import UTC, tzinfo
from pathlib import Path
from typing import Any

from lazy_quarry.core.units import clock_time, format_instant
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.run_reader import RunReader
from lazy_quarry.views.board import SiteView
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.wording.json_form import detail_json
from lazy_quarry.wording.methods import methods

END = -64 * 1024
"""Bytes of the end of each output that are packed."""
PROFILE = "https://w3id.org/ro/wfrun/process/0.5"
MOST_TASKS = 5
"""Number of failed tasks of an array whose outputs are packed."""
_KINDS = {".json": "application/json", ".txt": "text/plain", ".md": "text/markdown", ".sh": "text/x-shellscript"}


def bundle(client: RunReader, site: SiteView, number: int, path: Path, zone: tzinfo = UTC) -> str:
    """Write the file; returns in a sentence what it is, and whom to send it. Raises :class:`QuarryError`."""
    detail = client.detail(number)
    files = {
        "README.txt": _read_me(detail, site.name, site.contact or site.head, zone),
        "script.sh": detail.script,
        "record.txt": "".join(f"{format_instant(one.at_ms)}  {one.what}\n" for one in detail.record),
        "job.json": json.dumps(detail_json(detail), indent=2, ensure_ascii=False),
        "methods.md": "\n".join(methods(detail, site.name, site.version, zone)) + "\n",
        **_outputs(client, detail),
    }
    files["ro-crate-metadata.json"] = json.dumps(crate(detail, site.name, list(files)), indent=2, ensure_ascii=False)
    part = path.with_name(f".{path.name}.part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as packed:
            for name, text in files.items():
                packed.writestr(name, text.encode("utf-8", "surrogateescape"))
        part.replace(path)
    except OSError as fault:
        part.unlink(missing_ok=True)
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None
    whom = f"; send it to {site.contact or site.head}" if site.contact or site.head else ""
    return f"{path}: {detail.view.label} with its script, verdict, record and the ends of its output{whom}"


def _read_me(detail: JobDetail, site: str, contact: str, zone: tzinfo) -> str:
    view = detail.view
    at = clock_time(view.ended_ms or view.submitted_ms, view.submitted_ms, zone)
    told = [
        f"Job {view.label} {view.name} of {view.user} on {site}, {at}",
        "",
        detail.verdict or view.why or str(view.phase),
        *(f"printed: {line}" for line in (detail.evidence.errors if detail.evidence else ())),
        *(f"{cause.words}" for cause in (detail.told.causes if detail.told else ())),
        "",
        "script.sh    the script as it was submitted",
        "record.txt   everything that happened to it",
        "job.json     request, use and outcome",
        "methods.md   the same as a paragraph and a table",
        "output.txt   the end of what it printed; errors.txt: of its errors, where they are apart",
        "",
        f"The environment is left out. For help: {contact or 'whoever runs the site'}",
    ]
    return "\n".join(told) + "\n"


def _outputs(client: RunReader, detail: JobDetail) -> dict[str, str]:
    if not detail.view.rows:
        found = {"output.txt": client.output(detail.view.job, "output", END).text}
        if detail.view.errors != detail.view.output:
            found["errors.txt"] = client.output(detail.view.job, "errors", END).text
        return found
    failed = [task for task in detail.tasks if task.phase.final and task.phase != "done"] or list(detail.tasks)
    return {f"output-{task.task}.txt": client.output(task.job, "output", END).text for task in failed[:MOST_TASKS]}


def crate(detail: JobDetail, site: str, names: Sequence[str]) -> dict[str, Any]:
    """The record as JSON-LD."""
    view = detail.view
    run: dict[str, Any] = {
        "@id": "#run",
        "@type": "CreateAction",
        "name": f"job {view.label} {view.name}",
        "instrument": {"@id": "script.sh"},
        "agent": {"@id": "#person"},
        "result": [{"@id": name} for name in names if name.startswith(("output", "errors"))],
        "actionStatus": {"@id": f"http://schema.org/{_status(detail)}"},
        **({"startTime": format_instant(view.started_ms)} if view.started_ms is not None else {}),
        **({"endTime": format_instant(view.ended_ms)} if view.ended_ms is not None else {}),
        **({"error": detail.verdict} if view.phase.final and view.phase != "done" else {}),
    }
    root = {
        "@id": "./",
        "@type": "Dataset",
        "name": f"Job {view.label} {view.name} on {site}",
        "description": detail.verdict or f"A job that is {view.phase}.",
        "datePublished": format_instant(view.ended_ms or view.submitted_ms)[:10],
        "license": "Not licensed: for whoever it is given to.",
        "hasPart": [{"@id": name} for name in names],
        "mentions": [{"@id": "#run"}],
        "conformsTo": {"@id": PROFILE},
    }
    descriptor = {
        "@id": "ro-crate-metadata.json",
        "@type": "CreativeWork",
        "about": {"@id": "./"},
        "conformsTo": {"@id": "https://w3id.org/ro/crate/1.2"},
    }
    profile = {
        "@id": PROFILE,
        "@type": "CreativeWork",
        "name": "Process Run Crate",
        "version": "0.5",
    }
    files = [
        {
            "@id": name,
            "@type": ["File", "SoftwareSourceCode"] if name == "script.sh" else "File",
            "name": name if name != "script.sh" else view.name,
            "encodingFormat": _KINDS[Path(name).suffix],
        }
        for name in names
    ]
    person = {"@id": "#person", "@type": "Person", "name": view.user}
    return {
        "@context": "https://w3id.org/ro/crate/1.2/context",
        "@graph": [descriptor, root, profile, run, person, *files],
    }


def _status(detail: JobDetail) -> str:
    if not detail.view.phase.final:
        return "ActiveActionStatus" if detail.view.phase == "running" else "PotentialActionStatus"
    return "CompletedActionStatus" if detail.view.phase == "done" else "FailedActionStatus"

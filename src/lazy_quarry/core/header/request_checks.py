"""Checks of the request against the script and the folder."""

from collections.abc import Container, Iterator, Sequence

from lazy_quarry.core.header.checked_script import CheckedScript
from lazy_quarry.core.header.diagnostic import Diagnostic, error, hint, warning
from lazy_quarry.core.header.interpreter import interpreter
from lazy_quarry.core.job.clashes import first_clash, template_of
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.paths import JOINED, better_output
from lazy_quarry.core.plain_text import shortened, values_words
from lazy_quarry.core.units import fold_names, format_bytes, format_duration, plural


def check_request(script: CheckedScript) -> Iterator[Diagnostic]:
    """Findings about the header's requests: output, times, nodes, interpreter, files that it names."""
    yield from _paths(script)
    yield from _output(script)
    yield from _redirected(script)
    yield from _times(script)
    yield from _nodes(script)
    yield from _interpreter(script)
    yield from _named_in_header(script)


def _paths(script: CheckedScript) -> Iterator[Diagnostic]:
    unusable, request = script.surroundings.unusable, script.request
    if script.site.kind == "rehearsal":  # which uses no files
        if script.surroundings.looked and request.input and script.surroundings.files.get(request.input) == "absent":
            words = f"input {request.input} is not in {script.surroundings.folder}"
            yield error("file-absent", words, script.line("input"))
        return
    for key, words in unusable.items():
        yield error("path", f"{key} {words}", script.line(key), script.column(key))


def _output(script: CheckedScript) -> Iterator[Diagnostic]:
    request = script.request
    keys = {"output": request.output}
    if request.errors != JOINED:
        keys["errors"] = request.errors
    for key, path in keys.items():
        if path.startswith("/dev/"):
            continue
        clash = first_clash(request.array, path) if request.array is not None else None
        missing = "-".join(["{job}"] * ("{job}" not in path) + ["{task}"] * (clash is not None))
        if not missing:
            continue
        better = better_output(path, missing)
        fix = script.changed(key, path, better, f'write "{better}"')
        if request.array is not None and clash is not None:
            one, other = (_task_words(request.array, at) for at in clash)
            words = f'{key} "{shortened(path)}" is one file for tasks {one} and {other}, and each would write over the other'
            yield error("output-clash", words, script.line(key), script.column(key), fix)
        else:
            words = f'{key} "{shortened(path)}" is the same each time, so a later run would write over it'
            yield warning("output-repeats", words, script.line(key), script.column(key), fix)


def _redirected(script: CheckedScript) -> Iterator[Diagnostic]:
    """Files that commands of an array write, whatever the task."""
    array = script.request.array
    if array is None or script.body is None:
        return
    told = set[str]()
    for word in (word for command in script.body.commands for word in command.outputs):
        template = template_of(word.text, array)
        if template in told or not template or template.startswith("/tmp/"):
            continue
        told.add(template)
        if (pair := first_clash(array, template)) is not None:
            one, other = (_task_words(array, at) for at in pair)
            words = f"tasks {one} and {other} would both write {shortened(word.text)}"
            yield warning("file-clash", words, word.line, word.column)


def _task_words(array: Array, at: int) -> str:
    """``7 (level=2, grid=fine)``."""
    values = values_words(list(array.values(at).items())[:4])
    return f"{array.number(at)} ({values})" if values else str(array.number(at))


def _times(script: CheckedScript) -> Iterator[Diagnostic]:
    request, surroundings = script.request, script.surroundings
    if request.not_before_ms and surroundings.now_ms and request.not_before_ms <= surroundings.now_ms:
        yield hint(
            "not-before-past", "not-before is in the past already, so it changes nothing", script.line("not-before")
        )
    if request.warn_s and script.body is not None and interpreter(script.lines[0]) in ("bash", "sh", "dash", "ksh"):
        traps = [command for command in script.body.commands if command.name == "trap"]
        if not any("USR1" in word.text for command in traps for word in command.words):
            words = "warn sends SIGUSR1, which ends a shell script that has no trap for it"
            yield warning("warn-untrapped", words, script.line("warn"))
    if request.readable_by and surroundings.looked and request.readable_by not in surroundings.groups:
        known = ", ".join(surroundings.groups[:8]) or "none"
        words = f'you are not in a group "{request.readable_by}"; you are in {known}'
        yield error("group", words, script.line("readable-by"))


def _nodes(script: CheckedScript) -> Iterator[Diagnostic]:
    request, need = script.request, script.need
    if need is None:
        return
    if request.whole_nodes:
        widest = max((script.site.node[name].cores for name in need.eligible), default=0)
        each = max(part.cores for part in need.parts) if not need.anywhere else widest
        if widest >= 2 and each * 2 <= widest:
            words = f"whole-nodes keeps {plural(widest, 'core')} of each node, and only {each} of them would be used"
            yield hint("nodes-half-used", words, script.line("whole-nodes"))
    yield from _unseen(script, need)
    if request.array is not None and request.array.at_once and request.array.at_once > request.array.count:
        words = f"at-once = {request.array.at_once} is more than the {plural(request.array.count, 'task')} there are"
        yield hint("at-once-idle", words, script.line("array"))
    folder = request.directory if request.directory.startswith("/") else script.surroundings.folder
    heavy = need.node_count > 1 or request.gpus or (request.array is not None and request.array.count > 10)
    if heavy and folder:
        area = script.site.storage_of(folder)
        if area is not None and not area.heavy:
            better = [other.path for other in script.site.storage if other.heavy and other.shared]
            advice = f"; {better[0]} is fit for that" if better else ""
            words = f"it would work in {folder}, and {area.path} is not for heavy reading and writing{advice}"
            yield warning("storage-unfit", words, script.line("directory"))


def _unseen(script: CheckedScript, need: Need) -> Iterator[Diagnostic]:
    """Its folders must be seen where it runs: files don't travel by themselves."""
    site, told = script.site, dict(script.surroundings.unseen)
    told.setdefault("directory", (script.surroundings.folder, frozenset()))
    for key, (folder, unseen) in told.items():
        area = site.storage_of(folder) if folder else None
        hidden = unseen | (set(site.node) - set(area.nodes) if area is not None and area.nodes else set())
        seeing = [name for name in need.eligible if name not in hidden]
        if not folder or len(seeing) == len(need.eligible):
            continue
        if bool(script.request.stage.into or script.request.stage.out) and key != "input":
            if key == "directory":
                yield hint("files-travel", _travels(script, need.eligible, folder, hidden), script.line("stage"))
            continue  # what is staged travels to hosts, and the outputs come back
        if seeing:
            blind = fold_names([name for name in need.eligible if name in hidden])
            words = f'{folder}, its {key}, is not seen by {blind}; ask for on-nodes = "{fold_names(seeing)}"'
            yield error("path", words, script.line("on-nodes", key))
            continue
        shared = [
            one.path for one in site.storage if set(need.eligible) & set(one.nodes or need.eligible) and one.shared
        ]
        better = f"a folder below {' or '.join(shared)}" if shared else "a folder that it shares"
        advice = f"submit from {better}" if key == "directory" else f"name {better}"
        words = f"no host of queue {need.queue} that could run it sees {folder}, its {key}; {advice}"
        yield error("path", words, script.line(key))


def _travels(script: CheckedScript, eligible: Sequence[str], folder: str, hidden: Container[str]) -> str:
    """What is copied to hosts that don't see the folder, and about how long that takes."""
    told = script.surroundings.staged
    blind = [name for name in eligible if name in hidden]
    verb = "does" if len(blind) == 1 else "do"
    words = f"{fold_names(blind)} {verb} not see {folder}: what stage names is copied there, and back"
    if told is None or not told.files:
        return words
    at_least = "at least " if told.more else ""
    amount = f"{at_least}{plural(told.files, 'file')}, {format_bytes(told.bytes)}"
    rates = [script.surroundings.copied_a_second[name] for name in blind if name in script.surroundings.copied_a_second]
    took = round(told.bytes / min(rates)) if rates else None
    time = f", about {format_duration(max(1, took), 1)} as fast as the last copy" if took is not None else ""
    return f"{words} ({amount}{time})"


def _interpreter(script: CheckedScript) -> Iterator[Diagnostic]:
    first = script.lines[0].rstrip("\r")
    words = first.removeprefix("#!").split()
    if not first.startswith("#!") or not words or not script.surroundings.looked:
        return
    path = words[0]
    if script.surroundings.files.get(path) == "absent":
        yield error("interpreter-absent", f"there is no interpreter {path}", 1, 3)
    elif path.endswith("/env"):
        name = interpreter(script.lines[0])
        if script.surroundings.programs.get(name) == "absent" and not script.from_modules(name):
            yield error("interpreter-absent", f'the PATH has no interpreter "{name}"', 1, 3)


def _named_in_header(script: CheckedScript) -> Iterator[Diagnostic]:
    """Paths that the header itself names: inputs to be staged, results that earlier runs left."""
    files = script.surroundings.files
    if not script.surroundings.looked:
        return
    for path in script.request.stage.into:
        if files.get(path) == "absent":
            yield error("file-absent", f"stage: {path} is not in {script.surroundings.folder}", script.line("stage"))
    for key, paths in (("stage", script.request.stage.out), ("expect", script.request.expect)):
        for path in paths:
            if files.get(path) == "file":
                words = f"{key}: {path} of an earlier run is there already, and this one would write over it"
                yield hint("overwrites", words, script.line(key))

"""Checks of the script's commands against the request and the files that are there."""

import re
import shlex
from collections.abc import Iterator

from lazy_quarry.core.header.checked_script import CheckedScript
from lazy_quarry.core.header.diagnostic import Diagnostic, Fix, hint, warning
from lazy_quarry.core.header.interpreter import interpreter
from lazy_quarry.core.header.nearest import closest
from lazy_quarry.core.header.script_body import Body, NamedFile, ShellCommand, Word, folder_of, named_files
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import plural

GIVEN = (
    "LQ_JOB", "LQ_TASK", "LQ_NAME", "LQ_ACCOUNT", "LQ_NODES", "LQ_NODE_COUNT", "LQ_RANKS", "LQ_THREADS", "LQ_CORES",
    "LQ_MEMORY_MIB", "LQ_GPUS", "LQ_SCRATCH", "LQ_SUBMITTED_FROM", "LQ_DEADLINE", "LQ_ATTEMPT", "LQ_RANK", "LQ_STATE",
)  # fmt: skip
"""Variables that a running job is given."""


def _words(text: str) -> list[str]:
    return text.split()


_SHELLS_OWN = frozenset(
    _words(
        """
HOME USER PATH LANG OMP_NUM_THREADS PWD OLDPWD SHELL SHLVL HOSTNAME UID EUID PPID RANDOM SECONDS LINENO IFS BASH
BASHPID BASH_SOURCE BASH_VERSION BASH_REMATCH FUNCNAME PIPESTATUS REPLY OPTARG OPTIND OPTERR TMPDIR EPOCHSECONDS
EPOCHREALTIME DIRSTACK GROUPS HOSTTYPE OSTYPE MACHTYPE COLUMNS LINES TERM LOGNAME _
"""
    )
)
BUILTINS = frozenset(
    _words(
        """
. : [ alias bg bind break builtin caller cd command compgen complete continue declare dirs disown echo enable eval
exec exit export false fc fg getopts hash help history jobs kill let local logout mapfile popd printf pushd pwd
read readarray readonly return set shift shopt source suspend test time times trap true type typeset ulimit umask
unalias unset wait module lq lazy-quarry
"""
    )
)
_STARTS_RANKS = frozenset(("mpirun", "mpiexec", "ssh", "torchrun", "lq", "lazy-quarry"))
_NEEDS_PERSON = {
    "sudo": "asks for a password",
    "su": "asks for a password",
    "vim": "is an editor",
    "vi": "is an editor",
    "nano": "is an editor",
    "emacs": "is an editor",
    "less": "waits for keys",
    "more": "waits for keys",
    "top": "waits for keys",
    "htop": "waits for keys",
    "passwd": "asks for a password",
}


def check_body(script: CheckedScript, partly: bool = False) -> Iterator[Diagnostic]:
    """Findings about the commands; none for languages that are not read.

    ``partly``: the header could not be read, so nothing is said of commands that depends on it.
    """
    body = script.body
    if body is None:
        return
    if body.read_to:
        words = "so much of this script was read; commands from here on were not looked at"
        yield hint("not-read", words, body.read_to)
    if not partly:
        yield from _variables(script, body)
    yield from _programs(script, body)
    if not partly:
        yield from _ranks(script, body)
    yield from _habits(script, body, partly)
    yield from _files(script, body)


def _variables(script: CheckedScript, body: Body) -> Iterator[Diagnostic]:
    known = {*GIVEN, *_SHELLS_OWN, *body.assigned, *script.parameters}
    known |= {name for name, _ in script.request.environment}
    if script.request.inherit:
        known |= script.surroundings.variables
    told: set[str] = set()
    others = sorted(known - _SHELLS_OWN)
    for use in body.used:
        if use.name in known or use.name in told:
            continue
        told.add(use.name)
        ours = use.name.startswith("LQ_")
        if (body.open_ended or _module_variable(script, use.name)) and not ours:
            continue
        if use.name == "LQ_TASK":
            continue
        near = closest(use.name, GIVEN if ours else others, 0.75)
        advice = f"; did you mean ${near}?" if near else ""
        fix = script.replaced(use.line, use.column, f"${use.name}", f"${near}") if near else None
        fix = fix or (script.replaced(use.line, use.column, f"${{{use.name}", f"${{{near}") if near else None)
        yield warning("variable-unset", f"${use.name} is never set{advice}", use.line, use.column, fix)
    asks_for_array = script.block is not None and "array" in script.block.values  # which may be wrong itself
    if script.request.array is None and not asks_for_array and "LQ_TASK" in body.mentioned:
        first = next((use for use in body.used if use.name == "LQ_TASK"), None)
        if first is not None and "LQ_TASK" not in body.assigned:
            words = "$LQ_TASK is set only for tasks of an array, and this job is not an array"
            yield warning("task-without-array", words, first.line, first.column)
    words_of_job = " ".join([*script.request.arguments, *script.request.prepare, script.request.output])
    for name in script.parameters:
        if name not in body.mentioned and f"{{{name}}}" not in words_of_job and f"${name}" not in words_of_job:
            line = script.block.place("array", "sweep", name).line if script.block else 1
            yield warning("parameter-unused", f"no command uses the parameter {name}, so its tasks do the same", line)


def _module_variable(script: CheckedScript, name: str) -> bool:
    """Modules may set variables; in capitals, as their custom is."""
    loads = any(command.name == "module" for command in script.body.commands) if script.body else False
    return name.isupper() and bool(script.request.modules or loads)


def _programs(script: CheckedScript, body: Body) -> Iterator[Diagnostic]:
    if not script.surroundings.looked or body.open_ended or "PATH" in body.assigned:
        return
    if any(command.name in ("alias", "conda", "enable") for command in body.commands):
        return
    loaded = [name for name, _ in _loaded(body)]
    if script.site.modules and not all(_offered(script.site, name) for name in loaded):
        return  # one whose name is wrong may be the one that gives them
    told: set[str] = set()
    for command in body.commands:
        name = command.name
        if (
            not name
            or "/" in name
            or name in BUILTINS
            or name in _NEEDS_PERSON
            or name in body.functions
            or name in told
        ):
            continue
        told.add(name)
        found = script.surroundings.programs.get(name, "there")
        if found == "there" or script.from_modules(name, loaded):
            continue
        word = command.words[0]
        giving = [module.name for module in script.site.software if name in module.programs]
        if found == "closed":
            yield warning("program-closed", f"{name} is on the PATH, but may not be executed", word.line, word.column)
        elif giving:
            best = giving[0]
            fix = _with_module(script, best)
            words = f"no {name} on the PATH; module {best} gives it"
            yield warning("program-absent", words, word.line, word.column, fix)
        else:
            yield warning(
                "program-absent", f"no {name} on the PATH, and no loaded module gives it", word.line, word.column
            )


def _with_module(script: CheckedScript, module: str) -> Fix | None:
    if script.block is None:
        return None
    label = f"load {module}"
    if not script.request.modules:
        at = script.block.first_line
        line = script.lines[at - 1]
        return Fix(label, at, at, (line, f'# modules  = ["{module}"]'))
    return script.changed("modules", "]", f', "{module}"]', label)


def _ranks(script: CheckedScript, body: Body) -> Iterator[Diagnostic]:
    request, need = script.request, script.need
    starters = [command for command in body.commands if command.name in _STARTS_RANKS]
    spreads = bool(starters) or bool({"LQ_NODES", "LQ_NODE_COUNT"} & body.mentioned) or body.open_ended
    several = need is not None and need.node_count > 1
    prog = any("mpi" in word.text.lower() for command in body.commands for word in command.words)
    if several and not spreads and not prog and body.commands and need is not None:
        words = (
            f"{plural(need.node_count, 'node')} are requested, but only the first is used: "
            'start the program with mpirun --hostfile "$LQ_NODES", or lq ranks'
        )
        yield warning("first-node-only", words, script.line("nodes", "ranks"))
    alone = request.ranks > 1 and not several and not spreads and not prog and bool(body.commands)
    counted = {"LQ_CORES", "LQ_RANKS"} & body.mentioned or any(one.name == "wait" for one in body.commands)
    if alone and not counted:
        words = f"{plural(request.ranks, 'rank')} are requested, but only one process is started"
        yield hint("one-rank-used", words, script.line("ranks", "ranks-per-node"))
    for command in starters:
        count = _count_option(command)
        total = need.ranks if need else request.ranks
        if command.name in ("mpirun", "mpiexec") and count is not None and count[0] != total:
            word = command.words[count[1]]
            words = f"{command.name} starts {plural(count[0], 'rank')}, but {total} {'is' if total == 1 else 'are'} requested"
            yield warning("ranks-differ", words, word.line, word.column)
    for number, line in enumerate(script.lines, 1):
        match = re.match(r"\s*(?:export\s+)?OMP_NUM_THREADS=(\d+)", line)
        if match and int(match[1]) != request.threads and not (request.threads == 1 and request.ranks == int(match[1])):
            unneeded = Fix("leave it out; it is set for you", number, number, ())
            words = f"OMP_NUM_THREADS is {match[1]}, but threads = {request.threads} is requested"
            yield warning("threads-differ", words, number, match.start(1) + 1, unneeded)


def _count_option(command: ShellCommand) -> tuple[int, int] | None:
    """The number of ranks that a starter is told, and the place of that word."""
    for at, word in enumerate(command.words[:-1]):
        if word.text in ("-n", "-np", "--n", "--np"):
            value = command.words[at + 1].value
            if value and value.isdecimal():
                return int(value), at + 1
    return None


def _habits(script: CheckedScript, body: Body, partly: bool) -> Iterator[Diagnostic]:
    plain = [command for command in body.commands if command.name not in ("set", "export", "trap", "cd")]
    lines = {command.words[0].line for command in plain}
    if not body.stops_on_failure and len(lines) > 1 and not body.open_ended:
        last = script.block.last_line if script.block else 1
        line = script.lines[last - 1]
        what = "set -euo pipefail" if interpreter(script.lines[0]) == "bash" else "set -eu"
        fix = None if partly else Fix(f"add {what}", last, last, (line, what))  # it goes below the header
        yield hint("goes-on", "a command that fails doesn't stop this script; it goes on with the next", last, 1, fix)
    for command in body.commands:
        why = _NEEDS_PERSON.get(command.name)
        word = command.words[0]
        if why:
            yield warning("needs-person", f"{command.name} {why}, and nobody sits at a job", word.line, word.column)
    for name, each in _loaded(body):
        if not script.site.modules:
            words = f"{script.site.name} offers no modules, so {name} can't be loaded"
            yield warning("module", words, each.line, each.column)
        elif not _offered(script.site, name):
            near = closest(name, script.site.modules, 0.5)
            advice = f"; did you mean {near}?" if near else ""
            better = script.replaced(each.line, each.column, each.text, near) if near else None
            yield warning("module", f"{script.site.name} has no module {name}{advice}", each.line, each.column, better)
    if body.background_line and not any(command.name == "wait" for command in body.commands):
        words = "this goes on in the background, and the script ends without waiting for it; it would be stopped"
        fix = Fix("add wait at the end", *_last_line(script))
        yield warning("background-left", words, body.background_line, 1, fix)
    if (script.request.stage.into or script.request.stage.out) and "LQ_SCRATCH" not in body.mentioned:
        words = "what is staged lies in $LQ_SCRATCH, and no command goes there"
        yield warning("stage-unused", words, script.line("stage"))
    elif script.request.scratch_mib and "LQ_SCRATCH" not in body.mentioned and "TMPDIR" not in body.mentioned:
        yield hint("scratch-unused", "scratch is requested, and no command uses $LQ_SCRATCH", script.line("scratch"))


def _loaded(body: Body) -> Iterator[tuple[str, Word]]:
    """The modules that commands load, each with its word."""
    for command in body.commands:
        if command.name == "module" and len(command.words) > 2 and command.words[1].value in ("load", "add"):
            yield from (
                (word.value, word) for word in command.words[2:] if word.value and not word.text.startswith("-")
            )


def _offered(site: Site, name: str) -> bool:
    return any(module == name or module.startswith(f"{name}/") for module in site.modules)


def _last_line(script: CheckedScript) -> tuple[int, int, tuple[str, ...]]:
    last = next((at for at in range(len(script.lines), 0, -1) if script.lines[at - 1]), 1)
    return last, last, (script.lines[last - 1], "wait")


def _files(script: CheckedScript, body: Body) -> Iterator[Diagnostic]:
    """Files that commands read and that aren't there; files that are there and would be written over."""
    if not script.surroundings.looked:
        return
    made = {path.rstrip("/") for path in (*script.request.expect, *script.request.stage.out, script.request.output)}
    told: set[str] = set()
    named = list(named_files(body))
    made |= {one.path for one in named if one.way in ("written", "appended") and not folder_of(one.path)}
    for command in body.commands:
        if command.name in ("mkdir", "touch", "tee", "git", "tar", "unzip", "gunzip", "curl", "wget", "cp", "mv", "ln"):
            made |= {word.value.rstrip("/") for word in command.words[1:] if word.value}
    for one in named:
        found = script.surroundings.files.get(one.path)
        if one.path in told or found is None:
            continue
        told.add(one.path)
        yield from _file(script, one, found, made)
        above = folder_of(one.path) if one.way in ("written", "appended") else ""
        if above and above not in told and script.surroundings.files.get(above) == "absent" and not _below(above, made):
            told.add(above)
            words = f"there is no folder {above} in {script.surroundings.folder}, so nothing can be written there"
            fix = Fix(f"make it: mkdir -p {above}", *_before(script, one.line, f"mkdir -p {shlex.quote(above)}"))
            yield warning("folder-absent", words, one.line, one.column, fix)


def _below(path: str, made: set[str]) -> bool:
    """True for a path that the script makes, or that lies in such a folder."""
    return any(path == one or path.startswith(f"{one}/") or one.startswith(f"{path}/") for one in made)


def _before(script: CheckedScript, line: int, command: str) -> tuple[int, int, tuple[str, ...]]:
    return line, line, (command, script.lines[line - 1])


def _file(script: CheckedScript, one: NamedFile, found: str, made: set[str]) -> Iterator[Diagnostic]:
    where = script.surroundings.folder
    inside = _below(one.path, made)
    if one.way == "run" and found == "absent" and not inside:
        yield warning(
            "program-absent", f"there is no {one.path} in {where}, where it would start", one.line, one.column
        )
    elif one.way == "run" and found == "closed":
        words = f"{one.path} may not be executed; chmod +x makes it so"
        yield warning("program-closed", words, one.line, one.column)
    elif one.way == "read" and found == "absent" and not inside:
        yield warning("file-absent", f"{one.path} is not in {where}, where the job would start", one.line, one.column)
    elif one.way == "written" and found == "file":
        yield hint("overwrites", f"{one.path} is there already, and this would write over it", one.line, one.column)

"""Completion in bash, zsh and fish: commands, options, jobs, and keys and values of ``--set``.

Nothing is started for it: without an engine, jobs and names are not completed.
"""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING

import click

from lazy_quarry.cli.command_table import COMMANDS
from lazy_quarry.cli.options import Usage

if TYPE_CHECKING:
    from lazy_quarry.views.board import SiteNames

Candidate = tuple[str, str]
"""A word, and what it stands for."""

_BASH = """\
_lazy_quarry_complete() {
    local line="${COMP_LINE:0:$COMP_POINT}" IFS=$'\\n' current
    COMPREPLY=($(_LAZY_QUARRY_COMPLETE=bash LQ_COMPLETE_LINE="$line" "$1" 2>/dev/null))
    current="${COMP_WORDS[COMP_CWORD]}"
    case "$current" in =) current= ;; esac
    COMPREPLY=($(compgen -W "${COMPREPLY[*]}" -- "$current"))
    case "${COMPREPLY[0]}" in *=|*/) compopt -o nospace 2>/dev/null ;; esac
}
complete -o bashdefault -o default -F _lazy_quarry_complete lazy-quarry lq
"""
_ZSH = """\
#compdef lazy-quarry lq
_lazy_quarry_complete() {
    local -a found
    found=("${(@f)$(_LAZY_QUARRY_COMPLETE=zsh LQ_COMPLETE_LINE="$LBUFFER" ${words[1]} 2>/dev/null)}")
    if [[ -n "${found[1]}" ]]; then
        _describe 'lazy-quarry' found -S ''
    else
        _files
    fi
}
compdef _lazy_quarry_complete lazy-quarry lq
"""
_FISH = """\
function _lazy_quarry_complete
    env _LAZY_QUARRY_COMPLETE=fish LQ_COMPLETE_LINE=(commandline -cp | string collect) (commandline -opc)[1] 2>/dev/null
end
complete -c lazy-quarry -a '(_lazy_quarry_complete)'
complete -c lq -a '(_lazy_quarry_complete)'
"""
SHELLS = {"bash": _BASH, "zsh": _ZSH, "fish": _FISH}


@click.command("completion")
@click.argument("shell", metavar="bash|zsh|fish")
def completion_command(shell: str) -> None:
    """Print the completion script of a shell. For bash: eval "$(lq completion bash)" in ~/.bashrc."""
    if shell not in SHELLS:
        raise Usage(f"completion {shell}: there are {', '.join(SHELLS)}")
    click.echo(SHELLS[shell], nl=False)


def answer_shell(commands: click.Group, shell: str) -> None:
    """Print what may stand at the end of ``LQ_COMPLETE_LINE``, in the form of the shell that asks."""
    line = os.environ.get("LQ_COMPLETE_LINE", "")
    words, current = _split(line)
    found = [(word, words_) for word, words_ in candidates(commands, words[1:], current) if word.startswith(current)]
    for word, note in found:
        if shell == "bash":
            print(word.rpartition("=")[2] if "=" in current else word)  # readline takes = as the end of a word
        elif shell == "zsh":
            print(f"{_escaped(word)}:{note}" if note else _escaped(word))
        else:
            print(f"{word}\t{note}" if note else word)


def _escaped(word: str) -> str:
    return word.replace(":", "\\:")


def _split(line: str) -> tuple[list[str], str]:
    """The whole words of a line, and the one that is being written."""
    try:
        words = shlex.split(line)
    except ValueError:
        words = line.split()  # a quote is still open
    if line.endswith((" ", "\t")) or not words:
        return words, ""
    return words[:-1], words[-1]


def candidates(commands: click.Group, before: list[str], current: str) -> Iterator[Candidate]:
    """Candidates for a place, given the words before it behind the program's name."""
    name = next((word for word in before if word in COMMANDS), "")
    if not name:
        yield from (
            _options(commands) if current.startswith("-") else [(one, text) for one, (_, text) in COMMANDS.items()]
        )
        return
    command = commands.get_command(click.Context(commands), name)
    assert command is not None
    last = before[-1]
    if last in _VALUES:
        yield from _VALUES[last](current)
    elif current.startswith("-"):
        yield from _options(command)
    elif any(
        parameter.name in ("job", "jobs") for parameter in command.params if isinstance(parameter, click.Argument)
    ):
        yield from _jobs()
    else:
        yield from ((word, "") for word in _words_of(name))


_WORDS: dict[str, tuple[str, ...]] = {
    "account": ("list", "show", "grant", "move", "members"),
    "completion": tuple(SHELLS),
    "hosts": ("list", "check", "add", "remove", "drop"),
    "node": ("close", "open", "lost"),
    "site": ("check", "schema", "roles"),
}


def _words_of(name: str) -> Iterable[str]:
    if name == "draw":
        from lazy_quarry.cli.commands.draw import FIGURES

        return FIGURES
    return _WORDS.get(name, ())


def _options(command: click.Command) -> Iterator[Candidate]:
    for parameter in command.params:
        if isinstance(parameter, click.Option):
            yield from ((word, parameter.help or "") for word in (*parameter.opts, *parameter.secondary_opts))
    yield "--help", "what it does"


# -- what the site knows --------------------------------------------------------------------------


def _jobs() -> Iterator[Candidate]:
    from lazy_quarry.cli.options import running_client

    client = running_client("")
    for view in client.jobs(everyone=False) if client else ():
        yield str(view.job), f"{view.name}, {view.phase}"


def _settings(current: str) -> Iterable[Candidate]:
    """Keys with their ``=``; behind that the values that there are."""
    from lazy_quarry.core.header.keys import KEYS

    key, equals, _ = current.partition("=")
    if not equals:
        return ((f"{one}=", known.note) for one, known in KEYS.items())
    if key not in KEYS:
        return ()
    values = (*((word, "") for word in KEYS[key].words), *_names(KEYS[key].names))
    return ((f"{key}={value}", note) for value, note in values)


def _names(kind: str) -> Iterable[Candidate]:
    from lazy_quarry.cli.options import running_client

    client = running_client("") if kind else None
    names: SiteNames | None = client.names() if client else None
    return ((name, "") for name in getattr(names, kind, ()))


_VALUES: dict[str, Callable[[str], Iterable[Candidate]]] = {
    "--set": _settings,
    "--than": lambda current: _jobs(),
    "--account": lambda current: _names("accounts"),
    "--nodes": lambda current: _names("nodes"),
    "--format": lambda current: (("text", "for people"), ("json", "for programs")),
    "--policy": lambda current: ((word, "") for word in ("planned", "easy", "first-come")),
}
"""The values that may stand behind an option."""

"""The actions of a shell script, as far as its text shows: its commands, the files they name, its variables."""

import re
from collections.abc import Iterator
from functools import lru_cache

import tree_sitter
import tree_sitter_bash
from msgspec import Struct

from lazy_quarry.core.header.interpreter import interpreter, likely_interpreter

MOST_READ, MOST_PARTS = 16 * 2**20, 50_000
"""Characters of words, and parts, that are read of one script. A word within a word within a word is counted each time."""
SHELLS = ("bash", "sh", "dash", "ksh")
"""Shells whose scripts are read; others are left alone."""
_SETTERS = ("read", "mapfile", "readarray", "getopts", "export", "declare", "local", "typeset", "readonly", "unset")
_BEFORE = ("time", "exec", "nohup", "command", "builtin", "nice", "then")
_GUARDS = (":-", "-", ":=", "=", ":?", "?", ":+", "+")


class Word(Struct, frozen=True):
    """A word of a command. ``value`` is what it stands for, or None when that shows only as it runs."""

    text: str
    value: str | None
    line: int
    column: int


class ShellCommand(Struct, frozen=True):
    """A simple command: its words, the name first; where its output goes and its input comes from."""

    words: tuple[Word, ...]
    outputs: tuple[Word, ...] = ()
    appends: tuple[Word, ...] = ()
    inputs: tuple[Word, ...] = ()

    @property
    def name(self) -> str:
        """The program's name, or empty when that shows only as it runs."""
        return self.words[0].value or "" if self.words else ""


class VariableUse(Struct, frozen=True):
    """A use of a variable that must have been set before."""

    name: str
    line: int
    column: int


class Body(Struct, frozen=True):
    """The actions of a script. ``open_ended``: it reads other scripts."""

    commands: tuple[ShellCommand, ...] = ()
    assigned: frozenset[str] = frozenset()
    used: tuple[VariableUse, ...] = ()
    mentioned: frozenset[str] = frozenset()
    functions: frozenset[str] = frozenset()
    open_ended: bool = False
    stops_on_failure: bool = False
    background_line: int = 0
    """The line of the last command that goes on in the background, or 0."""
    read_to: int = 0
    """The line from which on it was too much to be read, or 0."""


@lru_cache(maxsize=1)
def _parser() -> tree_sitter.Parser:
    return tree_sitter.Parser(tree_sitter.Language(tree_sitter_bash.language()))


@lru_cache(maxsize=64)
def read_body(script: str) -> Body | None:
    """Read the actions of a script; None for languages that are not read. Without interpreter line it may look like a shell's."""
    runs = interpreter(script) if script.startswith("#!") else likely_interpreter(script)
    if runs not in SHELLS:
        return None
    return _Reader(script).body


class _Reader:
    def __init__(self, script: str) -> None:
        self.commands: list[ShellCommand] = []
        self.assigned: set[str] = set()
        self.used: list[VariableUse] = []
        self.mentioned: set[str] = set()
        self.functions: set[str] = set()
        self.open_ended = self.stops = False
        self.background = 0
        self.left, self.read_to = MOST_READ, 0
        tree = _parser().parse(script.encode())
        self._walk(tree.root_node)
        self.body = Body(
            tuple(sorted(self.commands, key=lambda one: (one.words[0].line, one.words[0].column))),
            frozenset(self.assigned),
            tuple(self.used),
            frozenset(self.mentioned),
            frozenset(self.functions),
            self.open_ended,
            self.stops,
            self.background,
            self.read_to,
        )

    def _walk(self, root: tree_sitter.Node) -> None:
        """Look at every part in its order, however deep the script is nested."""
        rest: list[tuple[tree_sitter.Node, tuple[tree_sitter.Node, ...]]] = [(root, ())]
        for _ in range(MOST_PARTS):
            if not rest or self.left < 0:
                break
            node, redirects = rest.pop()
            below = self._part(node, redirects)
            rest += [(child, below) for child in reversed(node.children)]
        if rest:
            self.open_ended = True  # what was left out may set what the rest uses
            self.read_to = rest[-1][0].start_point[0] + 1

    def _part(self, node: tree_sitter.Node, redirects: tuple[tree_sitter.Node, ...]) -> tuple[tree_sitter.Node, ...]:
        """Take in one part; returns the redirections that hold for what is in it."""
        match node.type:
            case "variable_assignment" | "for_statement" | "select_statement":
                name = next((child for child in node.children if child.type in ("variable_name", "subscript")), None)
                if name is not None:
                    self.assigned.add(_text(name).partition("[")[0])
            case "declaration_command":
                self.assigned |= {_text(child) for child in node.children if child.type == "variable_name"}
            case "function_definition":
                self.functions |= {_text(child) for child in node.children if child.type == "word"}
            case "simple_expansion" | "expansion":
                self._expansion(node)
            case "arithmetic_expansion":
                self.assigned |= set(re.findall(r"\b([A-Za-z_]\w*)\s*(?:[-+*/%]?=(?!=)|\+\+|--)", _text(node)))
                self.mentioned |= set(re.findall(r"[A-Za-z_]\w*", _text(node)))
            case "redirected_statement":
                own = tuple(child for child in node.children if child.type == "file_redirect")
                for child in node.children:
                    if child.type == "heredoc_redirect":
                        own += tuple(each for each in child.children if each.type == "file_redirect")
                return own
            case "command":
                self._command(node, redirects)
            case "&":
                self.background = node.start_point[0] + 1
        return redirects if node.type == "pipeline" else ()

    def _expansion(self, node: tree_sitter.Node) -> None:
        kinds = [child.type for child in node.children]
        name = next((child for child in node.children if child.type in ("variable_name", "subscript")), None)
        if name is None:
            return
        word = _text(name).partition("[")[0]
        self.mentioned.add(word)
        if any(kind in _GUARDS for kind in kinds):
            if ":=" in kinds or "=" in kinds:
                self.assigned.add(word)
            return
        if re.fullmatch(r"[A-Za-z_]\w*", word):
            self.used.append(VariableUse(word, node.start_point[0] + 1, node.start_point[1] + 1))

    def _word(self, node: tree_sitter.Node) -> Word:
        word = Word(_text(node), _value(node), node.start_point[0] + 1, node.start_point[1] + 1)
        self.left -= len(word.text)
        return word

    def _command(self, node: tree_sitter.Node, redirects: tuple[tree_sitter.Node, ...]) -> None:
        words: list[Word] = []
        outputs: list[Word] = []
        appends: list[Word] = []
        inputs: list[Word] = []
        for child in node.children:
            if child.type == "command_name":
                words += [self._word(each) for each in child.children]
            elif child.type == "file_redirect":
                redirects += (child,)
            elif child.type not in ("variable_assignment", "herestring_redirect", "(", ")"):
                words.append(self._word(child))
        for redirect in redirects:
            kind = next((each.type for each in redirect.children if each.type[0] in "<>&"), "")
            target = [self._word(each) for each in redirect.children if each.type not in (kind, "file_descriptor")]
            into = {">": outputs, "&>": outputs, ">|": outputs, ">>": appends, "&>>": appends, "<": inputs}
            into.get(kind, []).extend(target)
        while len(words) > 1 and words[0].value in _BEFORE:
            words = [word for at, word in enumerate(words[1:]) if at or not word.text.startswith("-")] or words[1:]
        if words and words[0].value in ("lq", "lazy-quarry"):
            words = _inside_phase(words)
        if not words:
            return
        self.commands.append(ShellCommand(tuple(words), tuple(outputs), tuple(appends), tuple(inputs)))
        name, values = words[0].value, [word.value or "" for word in words[1:]]
        if name in _SETTERS:
            self.assigned |= {value.partition("=")[0] for value in values if not value.startswith("-")}
        elif name == "printf" and values[:1] == ["-v"]:
            self.assigned.add(values[1] if len(values) > 1 else "")
        elif name in (".", "source", "eval"):
            self.open_ended = True
        elif name == "set":
            flags = "".join(value[1:] for value in values if re.fullmatch(r"-[a-z]+", value))
            self.stops = self.stops or "e" in flags or "errexit" in values
        elif name == "let":
            self.assigned |= {match for value in values for match in re.findall(r"[A-Za-z_]\w*", value)}


def _inside_phase(words: list[Word]) -> list[Word]:
    """The command that is run as a named part: it is what the script does there."""
    while [word.value for word in words[1:2]] == ["phase"] and words[0].value in ("lq", "lazy-quarry"):
        dashes = next((at for at, word in enumerate(words) if word.value == "--"), None)
        if dashes is None or dashes + 1 == len(words):
            break
        words = words[dashes + 1 :]
    return words


def _text(node: tree_sitter.Node) -> str:
    return (node.text or b"").decode(errors="replace")


def _value(node: tree_sitter.Node) -> str | None:
    """The value of a word where its text alone says it."""
    text = _text(node)
    match node.type:
        case "word" | "number" | "command_name":
            if re.search(r"[*?\[{~]", text):
                return None
            return re.sub(r"\\(.)", r"\1", text)
        case "raw_string":
            return text[1:-1]
        case "string":
            return text[1:-1] if not any(_moving(child) for child in node.children) else None
        case "concatenation":
            parts = [_value(child) for child in node.children]
            return None if None in parts else "".join(part or "" for part in parts)
    return None


def _moving(node: tree_sitter.Node) -> bool:
    return node.type in ("simple_expansion", "expansion", "command_substitution", "arithmetic_expansion")


def _words(text: str) -> list[str]:
    return text.split()


_PATH = re.compile(r"[\w.+,@%-]*(?:/[\w.+,@%=-]+)+|[\w.+-]+\.[A-Za-z][A-Za-z0-9]{0,7}")
_NO_FILES = frozenset(
    _words(
        """
echo printf test [ rm mkdir rmdir cd export module set trap kill wait sleep date ssh scp rsync curl wget git pip
pip3 conda exit return shift read find command type which unset ulimit umask hostname true false : local declare
touch dirname basename let
"""
    )
)
_LAST_ONLY = frozenset(("grep", "sed", "awk", "egrep", "fgrep", "jq", "tr", "cut"))
_OUTPUT = re.compile(r"-o|-O|--?o(ut(put)?([-_]?(file|dir|path))?)?|--?(log|to|dest|target|save|results?)([-_]?\w+)?")


class NamedFile(Struct, frozen=True):
    """A file that a script names. ``way``: it is ``read``, ``written`` anew, ``appended`` to, or ``run``."""

    path: str
    way: str
    line: int
    column: int


def named_files(body: Body) -> Iterator[NamedFile]:
    """The files that commands name plainly, until the script goes to another folder."""
    for command in body.commands:
        if command.name in ("cd", "pushd"):
            return
        for word in command.outputs:
            yield from _named(word, "written")
        for word in command.appends:
            yield from _named(word, "appended")
        for word in command.inputs:
            yield from _named(word, "read")
        first = command.words[0]
        if "/" in command.name and not command.name.startswith("/dev/"):
            yield NamedFile(command.name, "run", first.line, first.column)
        if command.name in ("tee", "touch"):
            for word in command.words[1:]:
                yield from _named(word, "written")
        if command.name and command.name not in _NO_FILES and command.name not in body.functions:
            yield from _arguments(command)


def folder_of(path: str) -> str:
    """The folder that must be there for a file to be written; empty for the one where the script starts."""
    return path.rstrip("/").rpartition("/")[0]


def _named(word: Word, way: str) -> Iterator[NamedFile]:
    if word.value and word.value != "-" and not word.value.startswith(("/dev/", "/proc/", "&")):
        yield NamedFile(word.value, way, word.line, word.column)


def _arguments(command: ShellCommand) -> Iterator[NamedFile]:
    found: list[NamedFile] = []
    words = list(command.words[1:])
    skip = ""
    if command.name in _LAST_ONLY:
        words = words[-1:] if len([word for word in words if not word.text.startswith("-")]) > 1 else []
    for word in words:
        value, after, skip = word.value, skip, ""
        if word.text.startswith("-"):
            option, equals, rest = word.text.partition("=")
            if not equals:
                skip = option
                continue
            after, value = option, rest if re.fullmatch(r"[\w./+-]+", rest) else None
        if (
            value is None
            or not _PATH.fullmatch(value)
            or value.startswith(("/dev/", "/proc/", "http"))
            or after == "-m"
        ):
            continue
        if re.fullmatch(r"v?\d[\w.]*|.*\.(com|org|net|example)", value):
            continue
        way = "written" if _OUTPUT.fullmatch(after) else "read"
        if value.startswith("./") and not found and command.name in _STARTERS:
            way = "run"
        found.append(NamedFile(value, way, word.line, word.column))
    plain = [one for one in found if one.way == "read"]
    if len(plain) > 1 and found[-1] is plain[-1]:
        found[-1] = NamedFile(plain[-1].path, "perhaps", plain[-1].line, plain[-1].column)
    yield from found


_STARTERS = frozenset(("mpirun", "mpiexec", "lq", "timeout", "env", "xargs", "nice", "stdbuf", "numactl", "taskset"))

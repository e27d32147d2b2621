"""Every place that opens a path: whoever adds one says whose path it is."""

import ast
from pathlib import Path

SOURCE = Path(__file__).parents[2] / "src" / "lazy_quarry"
OPENING = {"read_text", "read_bytes", "write_text", "write_bytes", "copyfile", "copy2"}
HOMES = {"given", "ours", "system", "logs"}
"""Modules of ``files``, whose functions look first."""
ALLOWED = {
    ("app/open_site.py", "copyfile"): "the demo's examples, into the demo's own folder",
    (
        "cli/files.py",
        "write_text",
    ): "what a command is told to write may be a pipe; it holds up the person who typed it alone",
    ("cli/streams.py", "open"): "/dev/null",
    ("draw/figure.py", "write_text"): "a folder that matplotlib's page was just made in, of this process alone",
    ("draw/figure.py", "read_text"): "the same",
    ("link/server.py", "open"): "the state folder: what is not a folder is refused",
    ("run/hosts/archive.py", "read_bytes"): "the modules of this program, as Python itself has just read them",
    ("run/node/carried.py", "open"): "each part of a path by itself, and no link followed",
    ("run/node/compiled.py", "open"): "/dev/null",
    ("run/node/groups.py", "open"): "a control group's file, in the kernel's own file system",
    ("run/node/kept_inputs.py", "open"): "files without a name in a folder of ours",
    ("run/node/locks.py", "open"): "another user's note, looked at before it is read",
    ("run/node/sockets.py", "open"): "a folder",
    ("run/node/supervisor.py", "open"): "an attempt's folder, and a descriptor of given",
    ("store/folder.py", "open"): "a folder",
    ("store/sqlite/raw_pages.py", "copyfile"): "below the state folder, which was checked",
}


def opens():
    """(file, what is called, line) of each call that opens a path."""
    for file in sorted(SOURCE.rglob("*.py")):
        name = file.relative_to(SOURCE).as_posix()
        if name.startswith(("files/", "inside/")):  # what is in a job holds up the job alone
            continue
        for node in ast.walk(ast.parse(file.read_text())):
            if not isinstance(node, ast.Call):
                continue
            called = node.func
            if isinstance(called, ast.Name) and called.id == "open":
                looked = node.args and isinstance(node.args[0], ast.Call | ast.Name)
                inner = node.args[0] if node.args else None
                from_files = isinstance(inner, ast.Call) and ast.unparse(inner.func).split(".")[0] in HOMES
                known_fd = isinstance(inner, ast.Name) and inner.id == "fd"
                if not (looked and (from_files or known_fd)):
                    yield name, "open", node.lineno
            elif isinstance(called, ast.Attribute):
                home = ast.unparse(called.value)
                if home in HOMES:
                    continue
                if called.attr in OPENING or (called.attr == "open" and home in ("os", "gzip", "io")):
                    yield name, called.attr, node.lineno
                elif called.attr == "open" and "path" in home.lower():
                    yield name, "open", node.lineno


def test_every_path_is_opened_by_a_function_that_looks_what_it_is():
    found = list(opens())
    assert [one for one in found if one[:2] not in ALLOWED] == []
    assert {one[:2] for one in found} == set(ALLOWED)  # what is not there any more is not allowed any more

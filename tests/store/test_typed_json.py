"""Our types are read from JSON by any thread at any time, and by one function."""

import ast
import subprocess
import sys
from pathlib import Path

SOURCE = Path(__file__).parents[2] / "src" / "lazy_quarry"
HOME = "store/typed_json.py"
AT_ONCE = """
import sys, threading, types
from lazy_quarry.store.typed_json import decoder
sys.setswitchinterval(1e-6)
line = "@dataclass\\nclass C{0}:\\n    below: {1}\\n    more: dict[str, int] | None = None\\n"
source = "from dataclasses import dataclass\\n" + "".join(line.format(n, f"'list[C{n - 1}]'" if n else "int") for n in range(20))
text = b'{"below":1}'
for _ in range(19):
    text = b'{"below":[' + text + b']}'
for _ in range(100):
    module = sys.modules["made"] = types.ModuleType("made")
    exec(source, vars(module))
    together, found = threading.Barrier(4), []
    def read(kind, together=together, found=found):
        together.wait()
        found.append(decoder(kind).decode(text))
    threads = [threading.Thread(target=read, args=[module.C19 if n % 2 else module.C19 | None]) for n in range(4)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert len(found) == 4 and found == found[:1] * 4
"""


def test_a_kind_that_several_threads_read_for_the_first_time_is_prepared_by_one():
    done = subprocess.run([sys.executable, "-c", AT_ONCE], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]


def elsewhere():
    """(file, line) of each call that would have our types prepared by itself."""
    for file in SOURCE.rglob("*.py"):
        if (name := file.relative_to(SOURCE).as_posix()) != HOME:
            for node in ast.walk(ast.parse(file.read_text())):
                if isinstance(node, ast.Call) and (called := ast.unparse(node.func)).startswith("msgspec."):
                    typed = called.endswith("decode") and (
                        len(node.args) > 1 or any(k.arg == "type" for k in node.keywords)
                    )
                    if typed or called.endswith(("Decoder", "convert")):
                        yield name, node.lineno


def test_nobody_else_prepares_one():
    assert list(elsewhere()) == []

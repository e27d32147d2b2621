"""The page of promises names tests that there are."""

import re
from pathlib import Path

ROOT = Path(__file__).parents[1]


def test_every_test_that_a_promise_names_is_there():
    page = (ROOT / "docs" / "promises.md").read_text()
    code = "\n".join(path.read_text() for path in (ROOT / "tests").rglob("test_*.py"))
    named = set(re.findall(r"`(test_\w+)`", page))
    assert len(named) > 30 and not {name for name in named if f"def {name}(" not in code}
    assert not [path for path in re.findall(r"`(tests/[\w/.]+)`", page) if not (ROOT / path).exists()]

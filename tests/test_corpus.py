"""Every input that was kept from trying readers with made-up ones: none breaks a promise any more."""

from pathlib import Path

import pytest

from fuzz.targets import TARGETS

CORPUS = Path(__file__).parent / "corpus" / "fuzz"
KEPT = sorted(CORPUS.glob("*/*"))


def test_each_target_has_inputs_to_begin_from():
    assert {path.parent.name for path in KEPT} == set(TARGETS)


@pytest.mark.parametrize("path", KEPT, ids=lambda path: f"{path.parent.name}-{path.name[:24]}")
def test_an_input_that_was_kept_breaks_nothing(path):
    TARGETS[path.parent.name](path.read_bytes())

"""Lines that say that something went wrong, and lines that only sound like it."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.advice.error_lines import error_lines, is_wrong

WRONG = [
    "Error: no convergence after 400 steps",
    "ERROR 1: Unable to open EPSG support file",
    "fatal: bad config",
    "Segmentation fault (core dumped)",
    "/bin/sh: 3: surge: not found",
    "python3: can't open file 'x.py': [Errno 2] No such file or directory",
    "ls: cannot access 'inputs': No such file or directory",
    "MPI_ABORT was invoked on rank 3 in communicator MPI_COMM_WORLD",
    "slurp: write failed: No space left on device",
    "bash: line 1: 2231 Killed                  ./model",
    "ValueError: shapes (3,) and (4,) not aligned",
    "numpy.linalg.LinAlgError: Singular matrix",
    "terminate called after throwing an instance of 'std::bad_alloc' exception",
    "Permission denied",
    "forrtl: severe (24): end-of-file during read, unit 10, error reading",
    "residual is NaN at step 12",
    "Abort(1) on node 0 : unhandled failure",
    "*** error code 2",
    "Assertion `n > 0' failed.",
    "E   assert 1 == 2",
    "OSError: [Errno 28] No space left on device",
    "thread 'main' panicked at src/main.rs:2:5",
    "killed",
    "connection refused by host",
]
FINE = [
    "0 errors, 2 warnings",
    "no errors found",
    "errors: 0",
    "relative error 1.2e-5",
    "mean error = 0.03",
    "RMS error of 0.2 m",
    "error = 1e-9",
    "finished without errors",
    "error norm 1.0e-3 below tolerance",
    "failed: 0",
    "max error below 1e-6 after 12 steps",
    "standard error 0.4",
    "step 12 of 40",
    "Done.",
    "reading terror.nc",
    "mirrored the grid",
    "failover host is ready",
    "warning: deprecated option",
    "the error bars are drawn",
    "estimated error 0.3",
    "wrote report.pdf",
    "ok 12",
    "no failures",
]


@pytest.mark.parametrize("line", WRONG)
def test_a_line_that_tells_of_an_error_is_one(line):
    assert is_wrong(line)


@pytest.mark.parametrize("line", FINE)
def test_a_line_that_only_sounds_like_it_is_none(line):
    assert not is_wrong(line)


def test_a_traceback_is_one_error_its_last_line():
    text = "start\nTraceback (most recent call last):\n  File \"x.py\", line 3, in <module>\n    run()\nKeyError: 'level'\ngoing on\n"
    assert error_lines(text.split("\n")) == [(4, "KeyError: 'level'")]
    assert error_lines(text.split("\n")[:3]) == [(1, "Traceback (most recent call last), cut short")]


@given(st.lists(st.text(max_size=2000), max_size=30), st.integers(1, 4))
def test_whatever_is_printed_is_looked_through(lines, most):
    found = error_lines(lines, most)
    assert len(found) <= most and all(0 <= at < len(lines) for at, _ in found)

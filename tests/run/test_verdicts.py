"""Each way in which a job ends, provoked for real, and what its verdict says; what was promised and is not whole."""

import gzip
import json
import struct
import zlib
from pathlib import Path

import pytest

from lazy_quarry.run.node.file_kinds import file_found


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


@pytest.mark.parametrize(
    ("body", "settings", "reason", "words"),
    [
        ("echo ok", [], "done", ["Done in", "exit 0"]),
        ("no-such-program", [], "exit", ["exit 127: a command was not found", "not found"]),
        ("echo > f; chmod -x f; ./f", [], "exit", ["exit 126: the command was found and can't be executed"]),
        ("sh -c 'kill -SEGV $$'; exit $?", [], "exit", ["exit 139", "segmentation fault"]),
        ("sh -c 'kill -KILL $$'; exit $?", [], "exit", ["exit 137", "often for its memory"]),
        ("kill -TERM $$", [], "signal", ["ended by SIGTERM"]),
        ("echo 'error: no convergence' >&2; exit 3", [], "exit", ["exit 3", "It printed “error: no convergence”"]),
        ("lq phase read -- true; lq phase solve -- false || exit 9", [], "exit", ["exit 9", "Its part solve failed"]),
        ("lq phase solve -- sleep 60", ['walltime="1s"', 'grace="0s"'], "overtime", ["Stopped at its walltime of 1s", "in solve"]),
        ("echo 'ERROR 4: bad grid'; exit 0", [], "silent", ["perhaps not well", "ERROR 4: bad grid"]),
        ("printf '%%PDF-1.4 ...' > a.pdf", ['expect=["a.pdf"]'], "silent", ["a.pdf is cut short"]),
        ("true", ['expect=["gone.nc"]'], "missing-result", ["gone.nc, which is not there"]),
        (": > e.csv", ['expect=["e.csv"]'], "missing-result", ["e.csv, which is empty"]),
    ],
)  # fmt: skip
def test_the_verdict_says_how_it_ended_and_what_is_behind_it(machine, body, settings, reason, words):
    found = machine.ended(machine.submit(body, *settings))
    assert found["outcome_reason"] == reason, found
    assert all(word in found["verdict"] for word in words), found["verdict"]


def hdf5(end, size):
    head = b"\x89HDF\r\n\x1a\n" + bytes([0, 0, 0, 0, 0, 8, 8, 0]) + struct.pack("<HHI", 4, 16, 0)
    return (head + struct.pack("<QQQQ", 0, 2**64 - 1, end, 2**64 - 1)).ljust(size, b"\0")


ZIPPED = gzip.compress(b"x" * 9000, mtime=0)  # with a time in it, tests would have other names each second
PNG = b"\x89PNG\r\n\x1a\n" + struct.pack(">I4s", 0, b"IEND") + struct.pack(">I", zlib.crc32(b"IEND"))


@pytest.mark.parametrize(
    ("name", "content", "kind", "problem"),
    [
        ("a.pdf", b"%PDF-1.7\n1 0 obj\n%%EOF\n", "PDF", ""),
        ("a.pdf", b"%PDF-1.7\n1 0 obj\n", "PDF", "cut short"),
        ("a.pdf", b"<html>", "text", "by its content none"),
        ("a.png", PNG, "PNG", ""),
        ("a.png", PNG[:-5], "PNG", "cut short"),
        ("a.gz", ZIPPED, "gzip", ""),
        ("a.gz", ZIPPED[:-9], "gzip", "cut short"),
        ("a.gz", ZIPPED[:-8] + b"12345678", "gzip", "broken"),
        ("a.h5", hdf5(4096, 4096), "HDF5", ""),
        ("a.h5", hdf5(4096, 4000), "HDF5", "cut short: 4,000 of 4,096"),
        ("a.nc", b"CDF\x01" + bytes(60), "NetCDF", ""),
        ("a.nc", b"CDF\x02" + bytes(6), "NetCDF", "cut short"),
        ("a.json", json.dumps({"a": [1]}).encode(), "JSON", ""),
        ("a.json", b'{"a": [1', "JSON", "no JSON from line 1"),
        ("a.csv", b'a,b\n1,"2,\n3"\n', "CSV", ""),
        ("a.csv", b"a,b\n1,2\n3", "CSV", "cut short"),
        ("a.csv", b"a,b\n1,2,3\n4,5\n", "CSV", "row 2 has 3 cells"),
        ("a.csv", b"", "", "empty"),
        ("a.bin", bytes(range(256)), "data", ""),
        ("a.txt", "grüße\n".encode(), "text", ""),
    ],
)
def test_a_file_is_known_by_its_content_and_whether_it_is_whole(tmp_path, name, content, kind, problem):
    path = tmp_path / name
    path.write_bytes(content)
    found = file_found(str(path))
    assert (found.kind, found.size) == (kind, len(content)) and problem in found.problem
    assert bool(problem) == bool(found.problem)


def test_a_path_that_is_no_file_or_not_there_is_reported(tmp_path):
    assert file_found(str(tmp_path / "gone")).problem == "not there" and file_found(str(tmp_path)).kind == "folder"
    assert file_found("/dev/null").problem == "no file" and file_found(str(Path("/proc/1/mem"))).problem

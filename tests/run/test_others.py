"""The cores that others keep busy on this machine."""

from types import SimpleNamespace

import pytest

from lazy_quarry.probe import foreign_load as others


@pytest.fixture
def machine(monkeypatch, tmp_path):
    """A machine whose counters and clock are set by hand; it has been busy with five cores for a minute."""
    told = SimpleNamespace(now=1000.0, busy_s=0.0)

    def write():
        path = tmp_path / "stat"
        ticks = round(told.busy_s * others.os.sysconf("SC_CLK_TCK"))
        path.write_text(f"cpu  {ticks} 0 0 99 99 0 0 0 0 0\ncpu0 1 2 3\n")
        return path

    monkeypatch.setattr(others.system, "read_text", lambda _: write().read_text())
    monkeypatch.setattr(others.time, "monotonic", lambda: told.now)
    monkeypatch.setattr(others.os, "getloadavg", lambda: (5.0, 0, 0))
    monkeypatch.setattr(others.os, "cpu_count", lambda: 8)
    return told


def test_the_load_of_others_is_the_total_less_our_own(machine):
    load = others.OthersLoad()
    assert load.cores(1.5) == 3.5  # nothing is known but the mean of the last minute
    machine.now, machine.busy_s = 1010.0, 30.0
    assert load.cores(1.0) == 2.0
    machine.now += 1
    assert load.cores(0.0) == 2.0  # too soon to look again
    machine.now += 9
    assert load.cores(4.0) == 0.0
    machine.now += 3600
    assert load.cores(0.0) == 5.0


def test_counters_that_cannot_be_read_say_nothing(monkeypatch, tmp_path):
    monkeypatch.setattr(others, "_STAT", str(tmp_path / "none"))
    assert others.OthersLoad().cores(0) == 0.0

"""Long calls on a running engine: nobody waits for them, and nothing is lost where they end."""

import os
import signal
import threading

import pytest

from lazy_quarry.errors import QuarryError
from lazy_quarry.link.client import SocketClient
from tests.conftest import until


def readers(machine):
    """The processes that read, without the one that starts them."""
    found = {}
    for pid in machine.processes("lazy_quarry.link.reader"):
        try:
            with open(f"/proc/{pid}/comm") as file:
                found.setdefault(file.read().strip(), []).append(pid)
        except OSError:
            continue
    return found.get("lq-reader", []), found.get("lq-readers", [])


@pytest.fixture
def engine(machine):
    """An engine with a job that has ended and a reader that is ready, and a client of it."""
    machine.environment["LQ_CALL_LIMIT"] = "30"
    machine.ended(machine.submit("echo told"))
    client = SocketClient(machine.state)
    assert client.report("all").total.sums.jobs == 1
    assert readers(machine)[0]
    yield client
    client.close()


class Asked(threading.Thread):
    """A call in a thread of its own."""

    def __init__(self, call):
        super().__init__(daemon=True)
        self.call, self.told = call, None
        self.start()

    def run(self):
        try:
            self.told = self.call()
        except QuarryError as fault:
            self.told = fault


def stopped(pid):
    os.kill(pid, signal.SIGSTOP)
    until(lambda: open(f"/proc/{pid}/stat").read().rpartition(")")[2].split()[0] == "T", "the stop")


def test_nobody_waits_for_a_long_call_not_even_who_made_it(machine, engine):
    (pid, *_), _ = readers(machine)
    stopped(pid)
    slow, other = Asked(lambda: engine.search("job:1")), SocketClient(machine.state)
    for client in (engine, other):  # the same link, and another
        assert client.board().person.user and not client.jobs()
        assert client.submit is not None
    assert other.report("all").total.sums.jobs == 1  # by a second one
    assert slow.told is None
    os.kill(pid, signal.SIGCONT)
    until(lambda: slow.told, "the answer")
    assert [view.job for view in slow.told.jobs] == [1]
    other.close()


def test_a_reader_ends_with_the_client_that_it_works_for_and_the_others_with_the_engine(machine, engine):
    (pid, *_), (starter,) = readers(machine)
    leaves = SocketClient(machine.state)
    stopped(pid)
    Asked(lambda: leaves.report("all"))
    until(lambda: leaves.asked, "the call")
    assert not leaves.jobs()  # which comes after it
    leaves.close()
    until(lambda: engine.report("all"), "another reader")
    os.kill(pid, signal.SIGCONT)
    until(lambda: pid not in readers(machine)[0], "its end")
    assert readers(machine) == (readers(machine)[0], [starter]) and readers(machine)[0]
    os.kill(machine.engine(), signal.SIGKILL)
    until(lambda: readers(machine) == ([], []), "the end of all")


def test_a_process_that_ends_or_hangs_is_reported_and_the_next_call_is_answered(machine, engine):
    (pid, *_), (starter,) = readers(machine)
    stopped(pid)
    made = engine.asked
    slow = Asked(lambda: engine.waits("all"))
    until(lambda: engine.asked > made, "the call")
    assert not engine.jobs()  # which comes after it
    os.kill(pid, signal.SIGKILL)
    until(lambda: slow.told, "what became of it")
    assert slow.told.rows[0].jobs == 1  # another one was asked
    assert engine.report("all").total.sums.jobs == 1
    # Without the process that starts readers, the engine answers all by itself.
    os.kill(starter, signal.SIGKILL)
    for one in readers(machine)[0]:
        os.kill(one, signal.SIGKILL)
    until(lambda: readers(machine) == ([], []), "their end")
    assert engine.report("all").total.sums.jobs == 1
    view = engine.begin_study(["planned"])
    until(lambda: engine.studied().over, "the study")
    assert not view.problem and len(engine.studied().rows) == 2, engine.studied()


def test_a_call_that_takes_too_long_is_given_up_and_says_so(machine):
    machine.environment["LQ_CALL_LIMIT"] = "1"
    machine.ended(machine.submit("echo told"))
    client = SocketClient(machine.state)
    client.report("all")
    stopped(readers(machine)[0][0])
    with pytest.raises(QuarryError, match="report took longer than 1 seconds and was given up"):
        client.report("all")
    assert client.report("all").total.sums.jobs == 1


def test_a_study_is_made_by_a_process_of_its_own_and_stopped_with_it(machine, engine):
    before = set(readers(machine)[0])
    engine.begin_study(["planned", "easy"])
    until(lambda: engine.studied().over, "the study")
    found = engine.studied()
    assert not found.problem and len(found.rows) == 3 and found.jobs == 1
    until(lambda: set(readers(machine)[0]) <= before, "its end")
    stopped(readers(machine)[1][0])  # no process can begin: the study waits
    engine.begin_study(["planned"])
    assert not engine.studied().over
    engine.stop_study()
    until(lambda: engine.studied().over, "its end")
    os.kill(readers(machine)[1][0], signal.SIGCONT)

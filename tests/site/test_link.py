"""Answers of an engine, whatever it is sent and whatever goes wrong inside it."""

import asyncio
import json
import threading

import pytest

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.site import Window
from lazy_quarry.errors import EngineAway, QuarryError
from lazy_quarry.link import client as client_module
from lazy_quarry.link.answered import answer
from lazy_quarry.link.client import SocketClient
from lazy_quarry.link.protocol import LONGEST_LINE, read_reply, result_of, write_request
from lazy_quarry.site import check_process as checked_apart
from lazy_quarry.site.caller import Caller
from tests.conftest import SiteUnderTest, script, small_site, until
from tests.hostile import HOSTILE

NOW = 1_700_000_000_000


@pytest.fixture
def site():
    return SiteUnderTest(small_site(), lambda: NOW).site


def told(site, line):
    return json.loads(answer(site, Caller("ada"), line))


@pytest.mark.parametrize(
    ("line", "code"),
    [
        (b"[" * 100_000, -32600),
        (b'{"jsonrpc":"2.0","method":"job","params":{"number":' + b"[" * 5000 + b"]" * 5000 + b"}}", -32700),
        (b'{"jsonrpc":"2.0","id":1,"method":"job","params":{"number":99999999999999999999}}', -32602),
        (b'{"jsonrpc":"2.0","id":1,"method":"jobs","params":{"since_ms":-99999999999999999}}', -32602),
        (b'{"jsonrpc":"2.0","id":1,"method":"job","params":{"number":"\xff"}}', -32602),
        (b'{"jsonrpc":"2.0","id":1,"method":"__class__"}', -32601),
        (b'{"jsonrpc":"2.0","id":1,"method":"submit","params":{}}', -32602),
    ],
)
def test_whatever_is_sent_gets_an_answer(site, line, code):
    assert told(site, line)["error"]["code"] == code


def test_a_fault_of_our_own_is_answered_with_a_number_that_the_log_has(site, monkeypatch, capfd):
    monkeypatch.setattr(site.queries, "turns", lambda caller: [][1])
    first, second = (told(site, write_request(number, "turns", {}))["error"] for number in (1, 2))
    assert first["code"] == -32603 and "IndexError" in first["message"]
    assert first["message"] != second["message"]
    assert f"fault {first['message'].split()[2]} in turns" in capfd.readouterr().err
    with pytest.raises(QuarryError, match="internal error"):
        result_of("turns", read_reply(answer(site, Caller("ada"), write_request(3, "turns", {}))))


@pytest.mark.parametrize(
    ("begins", "ends", "name"),
    [(-(10**14), 10**14, "x"), (NOW, 10**15, "x"), (NOW, NOW + 1000, "x" * 200), (NOW, NOW + 1000, "\n")],
)
def test_a_reservation_out_of_all_bounds_is_refused(site, begins, ends, name):
    window = Window(("n1",), begins, ends, "work", (), (), name)
    outcome = result_of(
        "reserve", read_reply(answer(site, Caller("ada"), write_request(1, "reserve", {"window": window})))
    )
    assert not outcome.done and outcome.message


def test_an_engine_that_goes_away_again_and_again_is_asked_twice(tmp_path, monkeypatch):
    asked = []

    class Gone:
        def sendall(self, line):
            asked.append(line)
            raise BrokenPipeError

    monkeypatch.setattr(SocketClient, "_connect", lambda self: setattr(self, "_socket", Gone()))
    client = SocketClient(tmp_path)
    with pytest.raises(EngineAway, match="twice"):
        client.turns()
    assert len(asked) == 2
    with pytest.raises(EngineAway, match="went away during cancel"):
        client.cancel([1])
    assert len(asked) == 3 and client_module.START_S > 0


def test_a_check_apart_finds_the_same(tmp_path):
    site = small_site()
    text = script('walltime = "1h"\nmemroy = "1 GiB/core"', "echo $lost\n" * 10_000)
    context = CheckContext("ada", Submission(text, directory=str(tmp_path)))
    apart = asyncio.run(checked_apart.checked_apart(site, context))
    assert {one.code for one in apart.diagnostics} >= {
        one.code for one in check_script(text, site, context).diagnostics
    }
    assert apart.request == check_script(text, site, context).request


def test_a_script_that_takes_too_long_to_check_is_told_so(monkeypatch):
    monkeypatch.setattr(checked_apart, "MOST_S", 0.0)
    found = asyncio.run(checked_apart.checked_apart(small_site(), CheckContext("ada", Submission("x"))))
    assert [one.code for one in found.diagnostics] == ["too-slow"] and found.request is None


def test_nobody_waits_for_the_check_of_a_long_script(machine):
    client, other = SocketClient(machine.state), SocketClient(machine.state)
    told = []
    long = HOSTILE["var uses"]
    asking = threading.Thread(target=lambda: told.append(client.check(Submission(long, directory=str(machine.work)))))
    asking.start()
    assert other.jobs() == [] and not told
    asking.join()
    assert told[0].diagnostics
    receipt = client.submit(
        Submission(long.replace("#!/bin/bash\n", "#!/bin/bash\nexit 0\n", 1), directory=str(machine.work))
    )
    assert receipt.job
    until(lambda: client.job(receipt.job).phase == "done", "the end")
    client.close(), other.close()


def test_a_submission_with_half_a_character_is_refused_before_it_is_sent():
    with pytest.raises(QuarryError, match="no UTF-8"):
        write_request(1, "submit", {"submission": Submission("\ud800")})


def test_a_call_that_is_too_long_is_refused_before_it_is_sent():
    with pytest.raises(QuarryError, match="make it in parts"):
        write_request(1, "submit_chain", {"source": "x" * (LONGEST_LINE + 1)})

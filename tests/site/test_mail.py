"""Mail: written as headers and chains ask, sent by a real SMTP server, delayed by one that is down and never lost."""

import mailbox
import os
import ssl
import subprocess
import threading
import time
from email import message_from_bytes, policy
from email.message import EmailMessage

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.units import HOUR_MS, MINUTE_MS
from lazy_quarry.run.relay import Never, NotNow, Relay, send
from lazy_quarry.site.mail.mail_folder import Letter, MailFolder
from lazy_quarry.store.journal import Journal
from lazy_quarry.views.chain_views import ChainSource
from tests.conftest import SiteUnderTest, script, small_site, until

TO = 'notify = { to = "ada@a.example", on = ["started", "done", "failed", "overtime", "again", "50%", "10m left"] }'
HEAD = f'walltime = "1h"\nmemory = "64 MiB/core"\n{TO}'


class Box:
    """Letters that an SMTP server was given; ``answer`` is what it says to a message, ``slow`` makes it wait."""

    def __init__(self):
        self.letters, self.answer, self.slow = [], "250 OK", threading.Event()
        self.slow.set()

    async def handle_DATA(self, server, session, envelope):
        self.slow.wait(20)
        if self.answer.startswith("250"):
            self.letters.append((envelope.rcpt_tos, message_from_bytes(envelope.content, policy=policy.default)))
        return self.answer

    async def handle_RCPT(self, server, session, envelope, address, rcpt_options):
        if address.startswith("nobody"):
            return "550 no such person here"
        if address.startswith("later"):
            return "450 the box is full, come back later"
        envelope.rcpt_tos.append(address)
        return "250 OK"


@pytest.fixture
def server():
    """A function that starts an SMTP server on a port; all are stopped at the end."""
    started = []

    def start(box, port=0, **how):
        controller = Controller(box, hostname="127.0.0.1", port=port or free_port(), **how)
        controller.start()
        started.append(controller)
        return controller

    yield start
    for controller in started:
        if controller._thread is not None:
            controller.stop()


def free_port():
    import socket

    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return found.getsockname()[1]


class Posted:
    """A site whose clock is set by hand, its mail written and sent by ``step``."""

    def __init__(self, folder, relay=None, site=None):
        self.now_ms = 1_800_000_000_000
        self.relay = relay
        self.site = SiteUnderTest(site or small_site(), lambda: self.now_ms, Journal(folder))
        self.mailer = self.site.site.mailer
        self.mailer.relay = relay

    def submit(self, header, body="true", **rehearsal):
        told = "".join(f"\n{key} = {value}" for key, value in rehearsal.items())
        more = f"\n[rehearsal]{told}" if told else ""
        receipt = self.site.submit(Submission(script(header + more, body), "run.sh", "/tmp"))
        assert receipt.job, receipt.diagnostics
        return receipt.job

    def after(self, ms):
        end = self.now_ms + ms
        while self.now_ms < end:
            self.now_ms = min(end, self.now_ms + MINUTE_MS)
            self.site.step(self.now_ms)
            self.mailer.step()

    @property
    def subjects(self):
        return [letter.subject.split("] ")[1] for letter in reversed(self.site.letters(100))]


def test_a_job_is_mailed_of_as_its_header_asks_and_once_for_each(tmp_path):
    posted = Posted(tmp_path)
    good = posted.submit(f'name = "good"\n{HEAD}', runtime='"58m"')
    bad = posted.submit(f'name = "bad"\n{HEAD}\nretries = 1', runtime='"5m"', exit=3)
    posted.submit('name = "quiet"\nwalltime = "1h"\nmemory = "64 MiB/core"', runtime='"5m"')
    posted.after(2 * HOUR_MS)
    told = [subject for subject in posted.subjects if subject.startswith(f"{good} ")]
    assert told == [
        f"{good} good: started",
        f"{good} good: 50% of its walltime",
        f"{good} good: 10m left",
        f"{good} good: done",
    ]
    told = [subject for subject in posted.subjects if subject.startswith(f"{bad} ")]
    began, again = f"{bad} bad: started", f"{bad} bad: ended, and runs again"
    assert told == [began, again, began, f"{bad} bad: failed, exit 3"] and len(posted.subjects) == 8
    box = mailbox.Maildir(tmp_path / "mail" / "box")
    letters = [message_from_bytes(bytes(message), policy=policy.default) for message in box]
    failed = next(letter for letter in letters if letter["Subject"].endswith("failed, exit 3"))
    text = failed.get_content()
    assert failed["To"] == "ada@a.example" and failed["Auto-Submitted"] == "auto-generated" and failed["Date"]
    assert (
        "Failed after 5m with exit 3" in text and "memory" in text and "bad-2.out" in text and f"lq show {bad}" in text
    )
    assert len({letter["Message-ID"] for letter in letters}) == len(letters) == 8


def test_an_array_and_a_chain_are_mailed_of_as_a_whole(tmp_path):
    posted = Posted(tmp_path)
    posted.submit(f'name = "many"\n{HEAD}\n[array]\ntasks = "1..5"', runtime='"3m"', exit=1)
    text = 'name = "two"\nnotify = { to = "ada@a.example", on = ["done"] }\n[shared]\nwalltime = "10m"\nmemory = "64 MiB/core"\n'
    text += '[jobs.first]\ncommands = ["true"]\n[jobs.second]\ncommands = ["true"]\nafter = { first = "succeeds" }\n'
    assert posted.site.submit_chain(ChainSource(text=text, folder="/tmp", scripts={})).chain == 1
    posted.after(2 * HOUR_MS)
    assert posted.subjects == ["1 many: started", "1 many: failed, 5 of 5 failed", "chain 1 two: done"]
    texts = [letter.text for letter in posted.site.letters(10)]
    assert "2 of 2 jobs done" in texts[0] and "5 of 5: exit 1" in texts[1]


def test_letters_keep_their_numbers(tmp_path):
    folder = MailFolder(tmp_path)
    for name in "abc":
        message = EmailMessage()
        message["Subject"] = name
        folder.write(Letter(name, 1, "a@b.example", name, 1, "kept"), message)
    folder.settle("b", "sent")
    again = MailFolder(tmp_path)
    assert [(one.number, one.name, one.state) for one in again.letters(2)] == [(3, "c", "kept"), (2, "b", "sent")]
    again.write(Letter("d", 2, "a@b.example", "d", 1, "kept"), EmailMessage())
    assert again.letters(1)[0].number == 4


def test_mail_is_written_by_the_next_engine_when_one_ended_before_it_could(tmp_path):
    posted = Posted(tmp_path)
    posted.submit(f'name = "good"\n{HEAD}', runtime='"5m"')
    posted.mailer.step()
    posted.mailer.step = lambda: None
    posted.after(HOUR_MS)
    assert posted.subjects == ["1 good: started"]
    posted.site.journal.close()
    site = SiteUnderTest(small_site(), lambda: posted.now_ms, Journal(tmp_path))
    for _ in range(2):
        site.site.mailer.step()
    assert [letter.subject for letter in site.letters(9)] == ["[brook] 1 good: done", "[brook] 1 good: started"]


def test_an_engine_that_starts_looks_at_few_events_for_mail(tmp_path, monkeypatch):
    monkeypatch.setattr("lazy_quarry.site.mail.mailer.MARK_EVERY", 10)
    posted = Posted(tmp_path)
    for number in range(6):
        posted.submit(f'name = "quiet{number}"\nwalltime = "1h"\nmemory = "64 MiB/core"', runtime='"5m"')
    posted.after(HOUR_MS)
    assert posted.site.journal.number - posted.mailer.folder.mark < 10 and not posted.site.letters(9)


def test_a_relay_that_is_down_or_busy_delays_mail_and_loses_none(tmp_path, server):
    port, box = free_port(), Box()
    posted = Posted(tmp_path, Relay("127.0.0.1", port))
    posted.submit(f'name = "good"\n{HEAD}', runtime='"5m"')
    posted.after(20 * MINUTE_MS)
    assert {letter.state for letter in posted.site.letters(9)} == {"waits"}
    assert any("does not answer" in notice and "nothing of it is lost" in notice for notice in posted.site.notices())
    controller = server(box, port)
    box.answer = "451 come back later"
    posted.mailer.next_try, posted.mailer.pauses = 0.0, {}
    posted.mailer.step()
    assert "451 come back later" in posted.mailer.problem and not box.letters
    box.answer = "250 OK"
    posted.mailer.next_try, posted.mailer.pauses = 0.0, {}
    posted.mailer.step()
    assert [letter["Subject"] for _, letter in box.letters] == ["[brook] 1 good: started", "[brook] 1 good: done"]
    assert {letter.state for letter in posted.site.letters(9)} == {"sent"} and not posted.mailer.problem
    controller.stop()
    posted.submit(f'name = "later"\n{HEAD}', runtime='"5m"')
    posted.after(20 * MINUTE_MS)
    server(box, port)
    posted.site.journal.close()
    site = SiteUnderTest(small_site(), lambda: posted.now_ms, Journal(tmp_path))  # an engine that begins anew
    site.site.mailer.relay = posted.relay
    site.site.mailer.step()
    assert [letter["Subject"] for _, letter in box.letters][2:] == ["[brook] 2 later: started", "[brook] 2 later: done"]


def test_an_address_that_is_refused_is_told_and_holds_nothing_up(tmp_path, server):
    box = Box()
    posted = Posted(tmp_path, Relay("127.0.0.1", server(box).port))
    posted.submit(f'name = "lost"\n{HEAD.replace("ada@", "nobody@")}', runtime='"5m"')
    posted.submit(f'name = "good"\n{HEAD}', runtime='"5m"')
    posted.after(20 * MINUTE_MS)
    states = {letter.subject.split()[2][:-1]: letter.state for letter in posted.site.letters(9)}
    assert states == {"lost": "refused", "good": "sent"} and "no such person" in posted.mailer.problem
    assert not list((tmp_path / "mail" / "outbox").glob("*.eml"))


def test_one_address_that_is_not_taken_now_holds_up_no_other_letter(tmp_path, server):
    box = Box()
    posted = Posted(tmp_path, Relay("127.0.0.1", server(box).port))
    posted.submit(f'name = "late"\n{HEAD.replace("ada@", "later@")}', runtime='"5m"')
    posted.submit(f'name = "good"\n{HEAD}', runtime='"5m"')
    posted.after(20 * MINUTE_MS)
    states = {letter.subject.split()[2][:-1]: letter.state for letter in posted.site.letters(9)}
    assert states == {"late": "waits", "good": "sent"} and "nothing of it is lost" in posted.mailer.problem
    assert len(posted.mailer.pauses) == 2 and posted.mailer.next_try <= time.monotonic()
    for path in (tmp_path / "mail" / "outbox").glob("*.eml"):
        os.utime(path, (time.time() - 6 * 86_400,) * 2)
    posted.mailer.pauses = {}
    posted.mailer.step()
    late = [letter for letter in posted.site.letters(9) if "late" in letter.subject]
    assert {letter.state for letter in late} == {"given up"} and "not taken for 5d" in late[0].why
    assert not list((tmp_path / "mail" / "outbox").glob("*.eml")) and "given up" in posted.mailer.problem


def test_a_kill_between_two_letters_of_one_event_loses_none(tmp_path):
    """The last job of a chain: mail about it and about the chain."""
    posted = Posted(tmp_path)
    text = (
        'name = "one"\nnotify = { to = "ada@b.example", on = ["done"] }\n[jobs.a]\ncommands = ["true"]\nwalltime = "1h"\n'
        'memory = "64 MiB/core"\nnotify = { to = "ada@b.example", on = ["done"] }\n[jobs.a.rehearsal]\nruntime = "5m"\n'
    )
    receipt = posted.site.submit_chain(ChainSource(text=text, folder="/tmp", scripts={}))
    assert receipt.chain, receipt.findings
    written, write = [], posted.mailer.write

    def killed(due):
        if written:
            raise KeyboardInterrupt
        written.append(due)
        write(due)

    posted.mailer.write = killed
    with pytest.raises(KeyboardInterrupt):
        posted.after(20 * MINUTE_MS)
    posted.site.journal.close()
    again = SiteUnderTest(small_site(), lambda: posted.now_ms, Journal(tmp_path))
    again.site.mailer.step()
    again.site.mailer.step()
    assert sorted(letter.subject.split("] ")[1] for letter in again.letters(9)) == ["1 a: done", "chain 1 one: done"]


def test_a_slow_relay_holds_up_neither_the_engine_nor_a_call(tmp_path, server):
    box = Box()
    posted = Posted(tmp_path, Relay("127.0.0.1", server(box).port))
    box.slow.clear()
    posted.mailer.start()
    posted.submit(f'name = "good"\n{HEAD}', runtime='"5m"')
    until(lambda: posted.site.letters(9), "the first letter")
    began = time.monotonic()
    posted.now_ms += 20 * MINUTE_MS
    posted.site.step(posted.now_ms)
    assert posted.site.job(1).phase == "done" and time.monotonic() - began < 10
    box.slow.set()
    until(lambda: len(box.letters) == 2, "both letters")
    posted.mailer.close()


def test_tls_and_login_are_used_as_the_site_file_says(tmp_path, server):
    certificate, key = tmp_path / "c.pem", tmp_path / "k.pem"
    made = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"]
    if subprocess.run([*made, "-out", certificate, "-keyout", key], capture_output=True, check=False).returncode:
        pytest.skip("openssl is not here")
    context, box, seen = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER), Box(), []
    context.load_cert_chain(certificate, key)

    def known(_server, _session, _envelope, _mechanism, given):
        seen.append(given)
        return AuthResult(success=isinstance(given, LoginPassword) and given.password == b"secret", handled=False)

    port = server(box, tls_context=context, require_starttls=True, authenticator=known, auth_required=True).port
    (tmp_path / "password").write_text("secret\n")
    raw = b"From: a@b.example\r\nTo: c@d.example\r\nSubject: x\r\n\r\nhello\r\n"
    send(Relay("127.0.0.1", port, "offered", "lq", str(tmp_path / "password")), raw)
    assert box.letters and seen
    with pytest.raises(NotNow, match="certificate"):
        send(Relay("127.0.0.1", port, "starttls", "lq", str(tmp_path / "password")), raw)
    (tmp_path / "password").write_text("wrong")
    with pytest.raises(NotNow, match="refused the login"):
        send(Relay("127.0.0.1", port, "offered", "lq", str(tmp_path / "password")), raw)
    with pytest.raises(NotNow, match="cannot be read"):
        send(Relay("127.0.0.1", port, "offered", "lq", str(tmp_path / "gone")), raw)
    with pytest.raises((NotNow, Never)):
        send(Relay("127.0.0.1", port, "none"), raw)


@pytest.mark.parametrize(
    ("phase", "again", "counts", "word"),
    [
        (Phase.DONE, False, None, "done"),
        (Phase.OVERTIME, False, None, "overtime"),
        (Phase.LOST, False, None, "failed"),
        (Phase.LOST, True, None, "again"),
        (Phase.CANCELLED, False, None, ""),
        (Phase.FAILED, False, {"done": 3, "overtime": 1}, "overtime"),
        (Phase.FAILED, False, {"done": 3, "failed": 1}, "failed"),
        (Phase.DONE, False, {"done": 3, "waiting": 0}, "done"),
    ],
)
def test_an_end_is_mailed_for_one_word(phase, again, counts, word):
    assert Notify("a@b", ("again", "overtime", "failed", "done")).at_end(phase, again, counts) == word
    assert Notify("a@b", ("started",)).at_end(phase, again, counts) == ""


def test_time_left_that_the_walltime_has_no_room_for_is_no_notice():
    assert list(Notify("a@b", ("75%", "20m left", "2h left")).timed(0, 3600)) == [
        (2_700_000, "75%"),
        (2_400_000, "20m left"),
    ]

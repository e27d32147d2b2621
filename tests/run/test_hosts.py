"""Hosts that are reached by SSH: through every shell, with login files that print or wait, and each way not to be reached."""

import hashlib
import json
import os
import subprocess
import sys
import threading
from dataclasses import dataclass

import pytest

from cluster import HOSTS
from cluster.hosts import host_named
from lazy_quarry.run.hosts import reach as reaching
from lazy_quarry.run.hosts.archive import Archive, agent_archive
from lazy_quarry.run.hosts.check import HostAsked, check_hosts
from lazy_quarry.run.hosts.reach import Unreached, reach
from lazy_quarry.run.hosts.transport import Route, Ssh, piped, quickest_first
from tests.conftest import until


@dataclass
class FromHead:
    """The SSH client of the head of the hosts."""

    hosts: object
    name: str

    def route(self):
        return Route(host_named(self.name).address)

    def open(self, command):
        return piped(self.hosts.on_head(Ssh(self.name).words(command)))


@dataclass
class Pipe:
    """A shell of this machine stands for a host."""

    name: str = "here"
    before: str = ""

    def route(self):
        return Route()

    def open(self, command):
        return piped(["sh", "-c", f"{self.before}{command}"])


@pytest.fixture
def here(tmp_path, monkeypatch):
    """A spool of this test's own; short patience for hosts that say nothing."""
    monkeypatch.setattr(reaching, "MARK_S", 5.0)
    monkeypatch.setattr(reaching, "ANSWER_S", 5.0)
    return str(tmp_path / "spool")


def refused(transport, *more, **named):
    with pytest.raises(Unreached) as told:
        reach(transport, *more, **named)
    return str(told.value)


def test_the_archive_is_the_same_each_time_and_holds_all_that_it_needs(here):
    first = agent_archive()
    agent_archive.cache_clear()
    assert agent_archive() == first
    assert hashlib.sha256(first.content).hexdigest() == first.digest
    with reach(Pipe(), sys.executable, here) as host:
        assert host.sent and host.noise == ""
        assert host.ask("facts")["cores"] == len(os.sched_getaffinity(0))
        with pytest.raises(OSError, match="No such file"):
            host.ask("read", "/no/such/file")
        with pytest.raises(OSError, match="can't be understood"):
            host.ask("no-such-word")
    path = f"{here}/agent-{first.digest[:32]}.pyz"
    found = "import lazy_quarry.run.node.agent, lazy_quarry.run.node.supervisor, lazy_quarry.inside.main"
    done = subprocess.run([sys.executable, "-I", "-S", "-c", f"import sys; sys.path.insert(0, {path!r}); {found}"])
    assert done.returncode == 0, "the agent, its supervisors and a job's helpers begin from it"


def test_it_is_sent_once_and_again_where_it_was_damaged(here):
    assert reach(Pipe(), sys.executable, here).sent
    assert not reach(Pipe(), sys.executable, here).sent
    (path,) = (os.path.join(here, each) for each in os.listdir(here))
    with open(path, "r+b") as file:
        file.truncate(1000)
    assert reach(Pipe(), sys.executable, here).sent
    assert len(os.listdir(here)) == 1


@pytest.mark.parametrize(
    "before, told",
    [
        ("echo Welcome; echo Ask Tove >&2; ", ""),
        ("head -c 2000000 /dev/zero; ", "its login files print more than a million bytes"),
        ("read line; ", "a login file waits for input (read) or starts another program (exec)"),
        ("exec cat; ", "a login file waits for input (read) or starts another program (exec)"),
        ("exit 0; ", "our program ended there (0)"),
        ("printf '\\000lazy-quarry {}\\n'; ", "what it says can't be understood"),
        ("printf '\\000lazy-quarry nonsense\\n'; ", "what it says can't be understood"),
        ("printf '\\000lazy-quarry {\"is_\": \"here\", \"need\": false}\\nhello\\n'; sleep 9; ", "what it says can't be understood"),
    ],
    ids=["prints", "prints a lot", "waits", "execs", "ends", "no answer", "no JSON", "somebody else"],
)  # fmt: skip
def test_login_files_may_print_and_whatever_else_they_do_is_told(here, before, told):
    if told:
        assert told in refused(Pipe(before=before), sys.executable, here)
    else:
        with reach(Pipe(before=before), sys.executable, here) as host:
            assert host.noise == "Ask Tove Welcome"
            assert host.ask("clock") > 0


def test_a_python_that_is_missing_or_old_is_told(here, tmp_path):
    assert "there is no python3.4 there; install Python 3.9" in refused(Pipe(), "python3.4", here)
    old = tmp_path / "old python"
    code = "import sys; sys.version_info = (3, 6, 15); exec(sys.argv.pop(1))"
    old.write_text(f'#!/bin/sh\nshift 3\nexec {sys.executable} -I -S -c "{code}" "$@"\n')
    old.chmod(0o755)
    assert "its Python is 3.6.15, and 3.9 is needed" in refused(Pipe(), str(old), here)


def test_a_place_that_cannot_be_written_is_told(tmp_path):
    (tmp_path / "open").mkdir(mode=0o777)
    (tmp_path / "open").chmod(0o777)
    (tmp_path / "file").write_text("")
    for spool in (tmp_path / "open", tmp_path / "file", "/proc/nowhere"):
        words = refused(Pipe(), sys.executable, str(spool))
        assert "our files can't be written to" in words and "--spool" in words, spool


def test_hosts_are_checked_through_every_shell(hosts):
    found = check_hosts([HostAsked(each.name) for each in HOSTS], [], transport_of=lambda name: FromHead(hosts, name))
    for each, kind in zip(found, HOSTS, strict=True):
        assert each.reached_ms is not None and each.problems == (), each
        assert each.facts["cores"] == len(kind.cores)
        assert len(each.facts["gpus"]) == (2 if kind.devices else 0)
        assert (
            each.facts["boot"]
            == hosts.run(["ssh", kind.name, "cat /proc/sys/kernel/random/boot_id"]).stdout.split()[-1]
        )
        assert abs(each.offset_ms) < 5_000
        assert any("Ask Tove" in note for note in each.notes) == kind.greets
        assert each.facts["folder"].startswith("/var/tmp/lazy-quarry-0-")
        assert each.reaches == {other.name: True for other in HOSTS if other is not kind}


def test_a_host_that_others_do_not_reach_is_told(hosts):
    transports = {"h1": FromHead(hosts, "h1"), "h2": FromHead(hosts, "h2")}
    transports["h2"].route = lambda: Route("10.77.0.99")
    first, _ = check_hosts([HostAsked("h1"), HostAsked("h2")], [], transport_of=transports.__getitem__)
    assert first.reaches == {"h2": False} and "it doesn't reach h2" in " ".join(first.notes) and not first.problems


def test_few_are_opened_at_once_through_one_jump_host_and_one_turned_away_is_tried_again():
    now, most, tries, lock = [0], [0], {}, threading.Lock()

    @dataclass
    class Counted:
        name: str

        def route(self):
            return Route(jump="gate")

        def open(self, command):
            with lock:
                now[0] += 1
                most[0] = max(most[0], now[0])
                tries[self.name] = tries.get(self.name, 0) + 1
            closed = "echo 'kex_exchange_identification: Connection closed by remote host' >&2; exit 255"
            found = piped(["sh", "-c", closed if tries[self.name] < 3 else "exit 1"])
            wait = found.wait

            def waited(*more):
                with lock:
                    now[0] -= 1
                return wait(*more)

            found.wait = waited
            return found

    names = [f"x{number}" for number in range(12)]
    found = check_hosts([HostAsked(name) for name in names], [], transport_of=Counted)
    assert tries == dict.fromkeys(names, 3) and most[0] <= 4
    assert all("our program ended there" in " ".join(each.problems) for each in found)


@pytest.mark.parametrize(
    "happen, told",
    [
        (lambda hosts: hosts.cut("h2"), "it doesn't answer; is it on|there is no way to it"),
        (lambda hosts: hosts.stop("h2"), "it doesn't answer; is it on"),
        (lambda hosts: hosts.run("ssh h2 pkill -o sshd"), "no SSH server answers there"),
        (lambda hosts: hosts.full("h2"), "can't be written to|has no room left"),
        (lambda hosts: hosts.clock("h2", -7200), "its clock is 2h behind; have it set"),
    ],
    ids=["cut", "stopped", "no server", "full", "clock"],
)
def test_what_is_in_the_way_is_told_with_what_to_do(hosts, happen, told):
    happen(hosts)
    (found,) = check_hosts([HostAsked("h2")], [], transport_of=lambda name: FromHead(hosts, name))
    assert any(word in " ".join(found.problems) for word in told.split("|")), found


@pytest.mark.parametrize("changed", [False, True], ids=["unknown", "changed"])
def test_a_host_key_is_never_taken_on_trust(hosts, changed):
    hosts.run("cp ~/.ssh/known_hosts ~/.ssh/kept")
    address = host_named("h1").address
    key = hosts.run("grep ^h2 ~/.ssh/known_hosts | cut -d' ' -f2,3").stdout.strip()
    hosts.run(
        f"grep -v ^h1 ~/.ssh/kept > ~/.ssh/known_hosts; {'' if not changed else f'echo h1,{address} {key} >> ~/.ssh/known_hosts'}"
    )
    try:
        words = refused(FromHead(hosts, "h1"))
    finally:
        hosts.run("mv ~/.ssh/kept ~/.ssh/known_hosts")
    assert ("ssh-keygen -R h1; ssh h1" if changed else "compare what it shows: ssh h1") in words


def test_a_host_that_is_gone_while_our_program_is_sent_keeps_nothing_half(hosts, monkeypatch):
    monkeypatch.setattr(reaching, "ANSWER_S", 3.0)
    content = os.urandom(4 << 20)
    large = Archive(content, hashlib.sha256(content).hexdigest())
    hosts.slow("h3", 0.3)
    told = []
    sending = threading.Thread(target=lambda: told.append(refused(FromHead(hosts, "h3"), archive=large)))
    sending.start()
    until(
        lambda: any("lazy-quarry" in each.command or "python3" in each.command for each in hosts.processes()["h3"][2:])
    )
    hosts.cut("h3")
    sending.join()
    assert "h3: " in told[0]
    hosts.mend("h3")
    kept = hosts.run(["ssh", "h3", "ls /var/tmp/lazy-quarry-*"]).stdout
    assert large.digest[:32] not in kept
    with reach(FromHead(hosts, "h3")) as host:
        assert host.ask("facts")["name"] == "h3"


def test_the_command_says_what_was_found_and_ends_with_it(hosts):
    hosts.cut("h2")
    done = hosts.run("lq hosts check h1 h2 imre@h3 --folder /shared --folder ~")
    assert done.returncode == 1 and done.stderr == ""
    lines = done.stdout.splitlines()
    assert [line.split()[0] for line in lines[:3]] == ["host", "h1", "imre@h3"]
    assert "/shared is the same on all of them" in lines
    assert "/users/root is seen by none of them" in lines
    assert any(line.startswith("h2: ") and line.endswith("?") for line in lines)
    assert lines[-1] == "2 of 3 hosts ready for jobs"
    done = hosts.run("cd /shared && lq hosts check h1 --format json")
    (told,) = json.loads(done.stdout)
    assert done.returncode == 0 and told["host"] == "h1" and told["reached"] is True and told["problems"] == []
    assert told["folders"] == {"/users/root": False, "/shared": True}
    assert hosts.run("ls -a /shared").stdout.count(".lazy-quarry-") == 0
    for words, said in (
        ("add", "needs the names of hosts"),
        ("look", 'there are "list", "check", "add", "remove" and "drop"'),
        ("check '  '", "no name of a host"),
    ):
        done = hosts.run(f"lq hosts {words}")
        assert done.returncode == 2 and said in done.stderr


def test_ciphers_of_the_processor_come_first_and_no_other_is_added():
    allowed = ("chacha20-poly1305@openssh.com", "aes128-ctr", "aes256-gcm@openssh.com")
    assert quickest_first(allowed, True) == ("aes256-gcm@openssh.com", "chacha20-poly1305@openssh.com", "aes128-ctr")
    assert quickest_first(allowed, False) == allowed and quickest_first((), True) == ()
    for cipher in ("aes128-ctr", "aes128-ctr,aes128-gcm@openssh.com"):
        words = Ssh("nowhere", ("-F", "none", "-o", f"Ciphers={cipher}")).words("true")
        chosen = [word.removeprefix("Ciphers=").split(",") for word in words if word.startswith("Ciphers=")]
        assert {one for each in chosen for one in each} == set(cipher.split(","))

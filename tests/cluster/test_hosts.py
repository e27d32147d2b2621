"""The hosts as programs on them and on the head see them, and each fault as it is seen from outside."""

import json
import os
import subprocess
import sys
import time
from contextlib import contextmanager

import pytest

from cluster import HOSTS, ClusterError
from cluster.hosts import PEOPLE, host_named
from tests.conftest import until

SEEN_THERE = """
import json, os, platform, pwd
stat = os.statvfs("/tmp")
print(json.dumps({
    "name": platform.node(), "cores": len(os.sched_getaffinity(0)), "boot": open("/proc/sys/kernel/random/boot_id").read(),
    "disk": stat.f_blocks * stat.f_frsize >> 20,
    "shell": pwd.getpwuid(os.getuid()).pw_shell, "processes": sum(each.isdigit() for each in os.listdir("/proc")),
    "groups": {line.split(":")[2].strip() for line in open("/proc/self/cgroup")} == {"/"},
    "homes": sorted(os.listdir("/users")), "checkout": os.path.exists(%r), "devices": os.listdir("/dev"),
}))
"""
PROBE = """
import socket, sys, time
begun = time.monotonic()
try:
    reached = socket.create_connection((sys.argv[1], 22), timeout=float(sys.argv[2]))
    took = time.monotonic() - begun
    reached.settimeout(float(sys.argv[2]))
    print("answers" if reached.recv(4).startswith(b"SSH") else "closes", took)
except ConnectionRefusedError:
    print("refuses", 0)
except TimeoutError:
    print("silent" if "took" in dir() else "unreachable", 0)
except OSError:
    print("unreachable", 0)
"""
ECHOES = """
import select, socket, struct, sys, time
asked = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
asked.setblocking(False)
back = set()
for number in range(100):
    sum_ = ~(0x0800 + 77 + number) & 0xFFFF
    asked.sendto(struct.pack("!BBHHH", 8, 0, sum_, 77, number), (sys.argv[1], 0))
    select.select([asked], [], [], 0.02)
    try:
        while True:
            kind, _, _, ident, back_number = struct.unpack("!BBHHH", asked.recv(200)[20:28])
            if kind == 0 and ident == 77:
                back.add(back_number)
    except BlockingIOError:
        pass
print(len(back))
"""
"""ICMP echoes (RFC 792): how many of 100 come back."""


def on(hosts, host, command, **more):
    """What a command on a host prints, by SSH from the head."""
    return hosts.run(["ssh", "-o", "ConnectTimeout=10", host, command], **more)


def seen(hosts, host, patience=1.0):
    """How a host's SSH server is seen from the head, and how long the way there took."""
    done = hosts.run([sys.executable, "-I", "-c", PROBE, host_named(host).address, str(patience)])
    word, took = done.stdout.split()
    return word, float(took)


def echoes(hosts, host):
    return int(hosts.run([sys.executable, "-I", "-c", ECHOES, host_named(host).address]).stdout)


@contextmanager
def opened(hosts, host):
    """A session that says again what it is told, line by line."""
    words = hosts.on_head(["ssh", host, "cat"])
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1) as session:

        def says(text):
            session.stdin.write(text + "\n")
            while (line := session.stdout.readline().strip()) != text:
                assert line, "the session ended"
            return True

        try:
            assert says("hello")
            yield says
        finally:
            session.kill()


def test_the_hosts_are_real_and_unlike_each_other(hosts):
    checkout = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
    told = {}
    for each in HOSTS:
        done = on(hosts, each.name, "python3 -", text=SEEN_THERE % checkout)
        there = told[each.name] = json.loads(done.stdout.splitlines()[-1])
        assert there["name"] == each.name
        assert there["cores"] == len(each.cores)
        assert there["disk"] == each.disk_mib
        assert there["shell"] == each.login_shell
        assert there["homes"] == sorted(PEOPLE)
        assert there["groups"], "each is in a control group of its own"
        assert there["processes"] < 8, "it sees only its own processes"
        assert not there["checkout"]
        assert {part.split("/")[0] for part in each.devices} <= set(there["devices"])
        assert (len(done.stdout.splitlines()) > 1) == each.greets
    boots = {each["boot"] for each in told.values()} | {open("/proc/sys/kernel/random/boot_id").read()}
    assert len(boots) == len(HOSTS) + 1
    assert len({each.login_shell for each in HOSTS}) == 3, "tcsh and fish are installed with the suite"


def test_one_folder_is_shared_and_all_else_is_each_ones_own(hosts):
    for folder in ("/tmp", "/var/tmp", "/run", "/users/root", "/dev/shm", "/shared"):
        on(hosts, "h1", f"echo h1 > {folder}/made-there")
        others = [hosts.run(["ls", f"{folder}/made-there"]), on(hosts, "h2", f"ls {folder}/made-there")]
        assert [each.returncode == 0 for each in others] == [folder == "/shared"] * 2, folder
    assert (hosts.shared / "made-there").read_text() == "h1\n"
    assert not os.path.exists("/shared/made-there")


def test_people_are_themselves_and_reach_one_host_from_another(hosts):
    assert hosts.run("ssh imre@h1 id -un").stdout == "imre\n"
    assert hosts.run("ssh salka@h3 \"ssh h4 'id -un; hostname'\"").stdout.splitlines() == ["salka", "h4"]
    assert hosts.run(["ssh", "h3", "exit 7"]).returncode == 7
    assert hosts.run("ssh tove@h1 cat /users/imre/.ssh/id_ed25519").returncode == 1


@pytest.mark.parametrize(
    "happen, looks",
    [
        (lambda hosts: hosts.cut("h2"), "unreachable"),
        (lambda hosts: hosts.lose("h2", 1.0), "unreachable"),
        (lambda hosts: hosts.half("h2"), "unreachable"),
        (lambda hosts: hosts.stop("h2"), "silent"),
        (lambda hosts: on(hosts, "h2", "pkill -o sshd"), "refuses"),
    ],
    ids=["cut", "lose all", "half", "stop", "sshd killed"],
)
def test_a_fault_is_seen_from_outside_and_mended(hosts, happen, looks):
    on(hosts, "h2", "sleep 612 < /dev/null > /dev/null 2>&1 &")
    happen(hosts)
    until(lambda: seen(hosts, "h2")[0] == looks)
    assert seen(hosts, "h1")[0] == "answers", "no other host has it"
    assert any(each.command == "sleep 612" for each in hosts.processes()["h2"]), "what runs there isn't ended by it"
    hosts.mend("h2")
    assert seen(hosts, "h2", 10.0)[0] == "answers"
    assert on(hosts, "h2", "pkill -f 'sleep 61[2]'").returncode == 0


def test_faults_that_follow_each_other_leave_no_way_past_them(hosts):
    for happen in (hosts.cut, hosts.slow, hosts.lose):
        happen("h2")
        seen(hosts, "h2", 2.0)
        if happen == hosts.slow:
            on(
                hosts, "h2", "/usr/sbin/ip neigh flush all || ip neigh flush all"
            )  # it asks for the head's address again
        hosts.mend("h2")
    hosts.half("h2")
    assert seen(hosts, "h2", 2.5)[0] == "unreachable"
    cables = {line.split()[2] for line in hosts.run("ip neigh show 10.77.0.12").stdout.splitlines()}
    assert cables == {"br0"}, "the head is reached by the bridge alone"


def test_half_lets_through_what_is_said_to_the_host(hosts):
    on(hosts, "h2", "rm -f /tmp/heard; touch /tmp/heard")
    with opened(hosts, "h2"):
        hearing = hosts.on_head(["ssh", "h2", "cat >> /tmp/heard"])
        with subprocess.Popen(hearing, stdin=subprocess.PIPE, text=True, bufsize=1) as session:
            try:
                session.stdin.write("before\n")
                until(lambda: "before" in on(hosts, "h2", "cat /tmp/heard").stdout)
                hosts.half("h2")
                session.stdin.write("after\n")
                heard = hosts.at("h2", ["cat", "/tmp/heard"])
                until(lambda: "after" in subprocess.run(heard, capture_output=True, text=True).stdout)
                assert seen(hosts, "h2")[0] == "unreachable"
            finally:
                session.kill()


def test_a_slow_host_is_late_both_ways_for_head_and_hosts(hosts):
    quick = seen(hosts, "h2", 5.0)[1]
    with opened(hosts, "h2") as says:
        hosts.slow("h2", 0.2)
        word, took = seen(hosts, "h2", 5.0)
        assert word == "answers" and took >= 0.4 > quick
        begun = time.monotonic()
        assert says("late")
        assert time.monotonic() - begun >= 0.4
        begun = time.monotonic()
        assert on(hosts, "h1", "ssh h2 true").returncode == 0
        assert time.monotonic() - begun >= 0.4
        hosts.mend("h2")
        assert says("in time")


def test_a_network_loses_a_share_and_what_is_open_stays_open(hosts):
    assert echoes(hosts, "h2") == 100
    with opened(hosts, "h2") as says:
        hosts.lose("h2", 0.4)
        assert 5 < echoes(hosts, "h2") < 75  # 36 are expected: one way and back
        assert echoes(hosts, "h1") == 100
        assert says("through"), "what is lost is said again by TCP"
        hosts.cut("h2")
        until(lambda: seen(hosts, "h2")[0] == "unreachable")
        hosts.mend("h2")
        assert says("again")


def test_a_large_answer_passes_a_relay_whole(hosts):
    hosts.slow("h2", 0.01)
    done = on(
        hosts, "h1", "head -c 3000000 /dev/urandom > /tmp/big; cat /tmp/big | ssh h2 sha256sum; sha256sum < /tmp/big"
    )
    there, here = (line for line in done.stdout.splitlines() if line.endswith("-"))
    assert there == here


def test_a_reboot_ends_all_and_keeps_the_disk(hosts):
    on(hosts, "h2", "echo kept > /var/tmp/kept; echo gone > /tmp/gone; echo home > kept; sleep 613 > /dev/null 2>&1 &")
    before = on(hosts, "h2", "cat /proc/sys/kernel/random/boot_id").stdout
    with opened(hosts, "h2"):
        hosts.cut("h2")
        hosts.stop("h2")
        hosts.reboot("h2")
    assert seen(hosts, "h2")[0] == "unreachable", "its cable is still out"
    hosts.mend("h2")
    after = on(hosts, "h2", "cat /proc/sys/kernel/random/boot_id").stdout
    assert after != before and len(after) == len(before)
    assert on(hosts, "h2", "cat /var/tmp/kept kept; ls /tmp").stdout.endswith("kept\nhome\n")
    assert not any("613" in each.command for each in hosts.processes()["h2"])
    assert float(on(hosts, "h2", "cut -d' ' -f1 /proc/uptime").stdout.splitlines()[-1]) < 60
    assert on(hosts, "h2", "cat /proc/self/cgroup").stdout.splitlines()[-1] == "0::/"


def test_a_clock_is_wrong_and_jumps_while_time_goes_on(hosts):
    says = "import sys,time\nfor line in sys.stdin: print(time.time(), time.monotonic(), time.clock_gettime(7))"
    hosts.clock("h3", 0)
    (hosts.shared / "clock.py").write_text(says)
    words = hosts.on_head(["ssh", "h3", "python3 -u /shared/clock.py"])
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1) as session:

        def clocks():
            session.stdin.write("\n")
            return [float(each) for each in session.stdout.readline().split()]

        wall, steady, boot = clocks()
        assert abs(wall - time.time()) < 60
        hosts.clock("h3", -7200)
        wall_2, steady_2, boot_2 = clocks()
        assert -7260 < wall_2 - time.time() < -7140
        assert 0 < steady_2 - steady < 60 and 0 < boot_2 - boot < 60
        assert abs(float(on(hosts, "h3", "date +%s").stdout) - time.time() + 7200) < 60
        assert abs(float(on(hosts, "h1", "date +%s").stdout) - time.time()) < 60
        hosts.mend("h3")
        assert abs(clocks()[0] - time.time()) < 60
        session.stdin.close()
    assert "LD_PRELOAD" not in on(hosts, "h3", "env").stdout


def test_a_full_disk_takes_nothing_more(hosts):
    hosts.full("h4")
    for folder in ("/tmp", "/var/tmp", "/users/root"):
        done = on(hosts, "h4", f"head -c 8192 /dev/zero > {folder}/more")
        assert "No space left" in done.stderr, folder
    assert on(hosts, "h1", "echo 1 > /tmp/more").returncode == 0
    assert on(hosts, "h4", "echo 1 > /shared/more").returncode == 0
    hosts.mend("h4")
    assert on(hosts, "h4", "head -c 8192 /dev/zero > /tmp/more").returncode == 0


def test_what_cannot_be_done_is_told(hosts):
    with pytest.raises(ClusterError, match="h9: no such host; there are h1, h2, h3, h4"):
        hosts.cut("h9")
    hosts.stop("h2")
    with pytest.raises(ClusterError, match="h2 is stopped: MEND=h2"):
        hosts.full("h2")

"""A cluster is made, used by the command of ``make cluster``, and leaves nothing, however it ends."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

import psutil
import pytest

from cluster import HOSTS, Cluster
from cluster.cluster import remove_leftovers
from cluster.folder import CHECKOUT
from tests.conftest import until
from tests.terminal.test_whole_path import Terminal

UNPRIVILEGED = "/usr/bin/python3"


@pytest.fixture
def clusters(made_hosts, tmp_path):
    """A folder for clusters, on a machine on which they can be made; what a test leaves is removed."""
    deep = tmp_path / ("a folder whose name is long enough that no socket could be named by its path " * 2).strip()
    yield deep
    remove_leftovers(deep)


def outside():
    """What of this machine's own a cluster could touch: its links and mounts."""
    return set(os.listdir("/sys/class/net")), [line.split()[4] for line in open("/proc/self/mountinfo")]


def networks(processes):
    """The networks that processes are in, by the kernel's numbers; some end while one looks."""
    found = set()
    for pid in processes:
        with suppress(OSError):
            found.add(os.stat(f"/proc/{pid}/ns/net").st_ino)
    return found


class Traces:
    """What a cluster has on this machine, noted while it is there: others may have theirs meanwhile."""

    def __init__(self, cluster):
        outer = psutil.Process(cluster.outer)
        self.processes = [outer, *outer.children(recursive=True)]
        self.networks = networks(each.pid for each in self.processes)
        self.groups = cluster.groups
        assert len(self.networks) == len(HOSTS) + 1
        assert all(each.is_dir() for each in self.groups)

    def are_gone(self):
        ended = not any(each.is_running() for each in self.processes) and not self.networks & networks(psutil.pids())
        return ended and not any(each.exists() for each in self.groups)


def command(clusters, *words, **more):
    """The command of ``make cluster``, on clusters of this test."""
    environment = {**os.environ, "LQ_CLUSTERS": str(clusters)}
    return subprocess.run(
        [sys.executable, "-m", "cluster", *words],
        cwd=CHECKOUT,
        env=environment,
        capture_output=True,
        text=True,
        timeout=60,
        **more,
    )


def test_nothing_is_left_however_often_it_is_made(clusters):
    before = outside()
    for _ in range(3):
        with Cluster.made(clusters / "one") as cluster:
            cluster.run("ssh h1 'for each in /sys/fs/cgroup/*; do mkdir $each/below; done'")
            for each in HOSTS:
                ago = float(cluster.run(f"ssh {each.name} cat /proc/uptime").stdout.splitlines()[-1].split()[0])
                assert each.up_s <= ago < each.up_s + 600, f"{each.name} began {ago} s ago"
            traces = Traces(cluster)
        until(traces.are_gone)
    assert outside() == before
    assert [each.name for each in clusters.iterdir()] == [".lock"]


@pytest.mark.parametrize("stopped", [False, True], ids=["in order", "a host is stopped"])
def test_it_ends_with_the_command_that_made_it_even_when_that_is_killed(clusters, stopped):
    environment = {**os.environ, "LQ_CLUSTERS": str(clusters)}
    words = [sys.executable, "-m", "cluster", "RUN=ssh h2 sleep 600", *(["STOP=h3"] if stopped else [])]
    with subprocess.Popen(words, cwd=CHECKOUT, env=environment, process_group=0) as running:
        try:
            found = until(lambda: clusters.is_dir() and Cluster.found(clusters / "made"))
            until(lambda: found.run("ssh h2 pgrep -x sleep").returncode == 0)
            traces = Traces(found)
        finally:
            running.kill()
    until(lambda: traces.are_gone() and not (clusters / "made").exists())


@pytest.mark.parametrize("killed", ["watcher", "outer"])
def test_what_a_crash_leaves_is_found_by_its_file_and_removed(clusters, killed):
    cluster = Cluster.start(clusters / "made", kept=True)
    cluster.stop("h2")
    traces = Traces(cluster)
    kept = cluster.kept
    os.kill(getattr(kept, killed).pid, signal.SIGKILL)
    until(lambda: Cluster.found(clusters / "made") is None)
    remove_leftovers(clusters)
    until(traces.are_gone)
    assert not (clusters / "made").exists()


def test_a_cluster_that_somebody_uses_is_no_leftover(clusters):
    with Cluster.made(clusters / "used") as cluster:
        assert remove_leftovers(clusters) == ([], [clusters / "used"])
        assert cluster.run("ssh h1 true").returncode == 0


def test_the_command_keeps_faults_and_removes(clusters):
    done = command(clusters, "CUT=h2")
    assert done.returncode == 2 and "there are no hosts" in done.stderr
    done = command(clusters, "KEEP=1", "RUN=ssh h3 hostname")
    assert (done.returncode, done.stdout, done.stderr) == (0, "h3\n", "")
    assert command(clusters, "RUN=ssh h1 'exit 7'").returncode == 7
    assert command(clusters, "RUN=kill -9 $$").returncode in (-9, 137)
    assert command(clusters, "CUT=h1,h2").returncode == 0
    assert command(clusters, "RUN=ssh -o ConnectTimeout=1 h2 true").returncode == 255
    assert command(clusters, "MEND=h1,h2", "RUN=ssh h2 true").returncode == 0
    for words, said in (
        (["SLOW=h2", "BY=soon"], "BY=soon: it takes a time such as"),
        (["LOSE=h2", "BY=130%"], "it takes a share such as BY=30%"),
        (["CLOCK=h2"], "BY=: it takes a time"),
        (["CUT=h2", "BY=2s"], "it goes with CLOCK, SLOW or LOSE"),
        (["CUT=h9"], "h9: no such host; there are h1, h2, h3, h4"),
        (["CUTS=h2"], "CUTS: no such word"),
    ):
        done = command(clusters, *words)
        assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr
    shown = command(clusters, "PS=1").stdout.splitlines()
    assert {line.split()[0] for line in shown[1:]} == {each.name for each in HOSTS}
    assert command(clusters, "DOWN=1").returncode == 0
    assert Cluster.found(clusters / "made") is None


def test_a_damaged_file_is_told_and_nothing_is_removed(clusters):
    (clusters / "made" / "shared").mkdir(parents=True)
    (clusters / "made" / "cluster.json").write_text('{"watcher": {"pid"')
    for words in (["KEEP=1"], ["DOWN=1"], ["PS=1"]):
        done = command(clusters, *words)
        assert done.returncode == 2 and "cluster.json can't be read" in done.stderr, words
    assert (clusters / "made" / "shared").exists()
    (clusters / "made" / "cluster.json").unlink()


@pytest.fixture
def open_folder():
    """A folder that another user may enter."""
    folder = Path(tempfile.mkdtemp(prefix="lq-hosts-"))
    folder.chmod(0o755)
    yield folder
    remove_leftovers(folder / "build" / "cluster")
    shutil.rmtree(folder)


def test_without_root_the_namespaces_are_entered_instead(open_folder):
    """Another user, for whom there are no SSH servers; what needs them is told."""
    if os.geteuid() == 0 and not (shutil.which("setpriv") and os.path.exists(UNPRIVILEGED)):
        pytest.skip("another user's Python is needed: /usr/bin/python3, and setpriv")
    shutil.copytree(CHECKOUT / "cluster", open_folder / "cluster", ignore=shutil.ignore_patterns("__pycache__"))
    became = []
    if os.geteuid() == 0:
        became = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", UNPRIVILEGED]
        os.chown(open_folder, 65534, 65534)

    def unprivileged(*words):
        environment = {"PATH": "/usr/bin:/bin:/usr/sbin:/sbin", "LANG": "C.UTF-8"}
        begin = became or [sys.executable]
        done = subprocess.run(
            [*begin, "-m", "cluster", *words],
            cwd=open_folder,
            env=environment,
            capture_output=True,
            text=True,
            timeout=60,
        )
        if "no new namespaces" in done.stderr:
            pytest.skip(f"this machine gives no namespaces to users: {done.stderr.strip()}")
        return done

    done = unprivileged("KEEP=1", "RUN=ssh h3 'hostname; nproc'; ssh -o BatchMode=yes root@h4 'hostname; exit 7'")
    assert (done.stdout.split(), done.returncode) == (["h3", str(len(HOSTS[2].cores)), "h4"], 7), done.stderr
    assert unprivileged("RUN=ls cluster/roots.py").returncode == 0, "the head sees the checkout, wherever that is"
    boots = [unprivileged("RUN=ssh h1 cat /proc/sys/kernel/random/boot_id").stdout]
    for words in (["STOP=h1"], ["MEND=h1"], ["FULL=h4"], ["CUT=h2"], ["REBOOT=h1"]):
        assert unprivileged(*words).returncode == 0, words
    boots.append(unprivileged("RUN=ssh h1 cat /proc/sys/kernel/random/boot_id").stdout)
    assert len(set(boots)) == 2 and all(boots)
    assert "No space left" in unprivileged("RUN=ssh h4 'echo more > /tmp/more'").stderr
    done = unprivileged("CLOCK=h2", "BY=-2h")
    assert done.returncode == 2 and "needs root" in done.stderr
    assert unprivileged("DOWN=1").returncode == 0
    assert not (open_folder / "build" / "cluster" / "made").exists()


@pytest.mark.skipif(shutil.which("tmux") is None, reason="tmux is not installed")
def test_make_cluster_opens_the_application_and_removes_the_hosts_after(clusters, tmp_path):
    environment = {"PATH": os.environ["PATH"], "LANG": "C.UTF-8", "TERM": "tmux-256color", "LQ_CLUSTERS": str(clusters)}
    terminal = Terminal(f"make -s -C '{CHECKOUT}' cluster", environment, tmp_path)
    try:
        terminal.sees("lazy quarry", "head", "Survey")
        inside = until(lambda: Cluster.found(clusters / "made"))
        traces = Traces(inside)
        assert inside.run("pgrep -fc lazy_quarry").stdout.strip() != "0", "it runs on the head"
        terminal.keys("C-q")
        terminal.sees("the end 0")
    finally:
        terminal.close()
    until(lambda: traces.are_gone() and not (clusters / "made").exists())

"""A site of hosts as its person sees it: real hosts, the engine on their head, and what goes wrong between."""

import json
import re
import time
from datetime import datetime
from functools import cache

import pytest

from lazy_quarry.core.units import plural
from tests.conftest import until
from tests.warm import Warm

_FILE = """name = "Workshop"
operators = ["root"]
[[nodes]]
names = "h1"
host = "h1"
cores = {one}
memory = "2 GiB"
gpus = 2
traits = ["fast"]
[[nodes]]
names = "h3"
host = "h3"
cores = {three}
memory = "2 GiB"
{more}
[[queues]]
name = "all"
nodes = "h1, h3"
"""
WAITS = "while [ ! -e /shared/go ]; do sleep 0.05; done; hostname"


@cache
def at_head(hosts):
    """Where commands of the head are forked from, and their variables."""
    found = hosts.run(["env", "-0"]).stdout
    return Warm(hosts.on_head), dict(each.split("=", 1) for each in found.split("\0") if each)


@cache
def cores_of(hosts):
    """How many cores the two hosts have."""
    return {one: int(hosts.run(f"ssh {one} nproc").stdout) for one in ("h1", "h3")}


class OnHead:
    """A site on the head: its file, its state folder, and commands about it."""

    def __init__(self, hosts, number):
        self.hosts = hosts
        (hosts.shared / "go").unlink(missing_ok=True)
        self.folder = f"/tmp/site-{number}"
        self.variables = {
            "LQ_STATE": f"{self.folder}/state", "LQ_SITES": f"{self.folder}/sites", "LQ_QUIET": "2", "LQ_LINGER": "600",
            "LQ_LOCKS": f"{self.folder}/locks",
        }  # fmt: skip
        hosts.run(f"mkdir -p {self.folder}/sites {self.folder}/locks /shared/work")

    def describe(self, more=""):
        cores = cores_of(self.hosts)
        self.write(_FILE.format(one=cores["h1"], three=cores["h3"], more=more))
        return cores

    def write(self, text):
        self.hosts.run(["sh", "-c", f"cat > {self.folder}/sites/machine.toml"], text=text)

    def file(self):
        return self.hosts.run(f"cat {self.folder}/sites/machine.toml").stdout

    def lq(self, *words, where="/shared/work", text=""):
        warm, head = at_head(self.hosts)
        return warm.run(words, where, {**head, **self.variables}, text, 60)

    def submit(self, script, *settings):
        more = [word for one in ("walltime=10m", "memory=50 MiB/core", *settings) for word in ("--set", one)]
        done = self.lq("submit", *more, "--", "sh", "-c", script)
        assert done.returncode == 0, done.stderr
        return int(done.stdout.split()[0])

    def job(self, number):
        done = self.lq("show", str(number), "--format", "json")
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    def state(self, number):
        return self.job(number)["state"]

    def hosts_list(self):
        return {each["node"]: each for each in json.loads(self.lq("hosts", "--format", "json").stdout)}

    def go(self):
        (self.hosts.shared / "go").touch()

    def engine(self):
        found = self.hosts.run("pgrep -f lazy_quarry.link.server").stdout.split()
        return [int(each) for each in found]

    def end(self):
        """End the engine and what its jobs left."""
        self.go()
        self.hosts.run("pkill -KILL -f lazy_quarry.link.server")
        for host in ("h1", "h3"):
            self.hosts.mend(host)
            self.hosts.run(["ssh", host, "pkill -KILL -f agent-.*pyz; rm -rf /var/tmp/lazy-quarry-*"])
        self.hosts.run(f"rm -rf {self.folder} /shared/work")


_number = iter(range(1_000_000))


@pytest.fixture
def site(hosts):
    made = OnHead(hosts, next(_number))
    yield made
    made.end()


def test_twelve_jobs_one_host_cut_and_back_with_their_true_ends(site, hosts):
    """Its jobs are running all the while, and quiet; nothing is expected to start there; their ends come as they were."""
    site.describe()
    numbers = [site.submit(WAITS + f"; exit {place % 2 * 3}") for place in range(12)]
    until(lambda: all(node["answers"] and node["jobs"] for node in site.hosts_list().values()))
    there = {number: job["nodes"] for number in numbers if (job := site.job(number))["state"] == "running"}
    on_h3 = [number for number, nodes in there.items() if nodes == ["h3"]]
    assert on_h3 and all(site.job(number)["quiet_since"] is None for number in there)
    hosts.cut("h3")
    until(lambda: site.job(on_h3[0])["quiet_since"], "it is quiet")
    assert site.state(on_h3[0]) == "running" and site.hosts_list()["h3"]["quiet_since"]
    waiting = next(number for number in numbers if number not in there)
    assert "h3 has not answered since" in site.lq("why", str(waiting)).stdout
    assert "no answer since" in site.lq("jobs").stdout and 'nodes{state="quiet"} 1' in site.lq("metrics").stdout
    cancelled = site.lq("cancel", str(on_h3[0])) if len(on_h3) > 1 else None
    site.go()
    others = [number for number in numbers if number not in on_h3]
    until(lambda: all(site.state(number) in ("done", "failed") for number in others), "h1 does all the rest")
    assert all(site.state(number) == "running" for number in on_h3)
    hosts.mend("h3")
    until(lambda: all(site.state(number) != "running" for number in on_h3))
    for number in numbers:
        job = site.job(number)
        wanted = "done" if numbers.index(number) % 2 == 0 else "failed"
        if cancelled is None or number != on_h3[0]:
            assert (job["state"], job["exit"]) == (wanted, 0 if wanted == "done" else 3)
        assert job["attempt"] == 1
    assert (hosts.shared / "work" / f"sh-{on_h3[-1]}.out").read_text() == "h3\n"
    assert site.job(on_h3[-1])["host"]["name"] == "h3"


def test_jobs_outlive_the_engine_and_the_connection(site, hosts):
    site.describe()
    number = site.submit(WAITS + "; exit 7", "on-nodes=h3")
    until(lambda: site.state(number) == "running")
    until(lambda: "sleep" in str(hosts.processes()["h3"]) or hosts.run("ssh h3 pgrep -f '[s]hared/go'").stdout)
    for pid in site.engine():
        hosts.run(f"kill -KILL {pid}")
    hosts.run(["ssh", "h3", "pkill -f 'sshd: root@notty'"])
    site.go()
    until(lambda: (hosts.shared / "work" / f"sh-{number}.out").exists())
    until(lambda: site.state(number) == "failed")
    job = site.job(number)
    assert (job["exit"], job["attempt"]) == (7, 1)
    assert (hosts.shared / "work" / f"sh-{number}.out").read_text() == "h3\n"


def test_what_goes_on_on_a_host_that_was_lost_is_stopped_and_not_charged_twice(site, hosts):
    site.describe()
    number = site.submit("echo ${LQ_ATTEMPT} >> /shared/work/ran; sleep 1000", "on-nodes=h3", "retries=0")
    until(lambda: (hosts.shared / "work" / "ran").exists())
    hosts.cut("h3")
    until(lambda: site.job(number)["quiet_since"])
    asked = site.lq("node", "lost", "h3")
    assert asked.returncode == 2 and str(number) in asked.stderr and "--yes" in asked.stderr
    assert site.lq("node", "lost", "h3", "--yes").returncode == 0
    until(lambda: site.state(number) == "lost")
    charged = site.lq("report", "--format", "json").stdout
    hosts.mend("h3")
    until(lambda: site.hosts_list()["h3"]["answers"])
    until(lambda: not hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout, "it is stopped")
    job = site.job(number)
    assert (job["state"], job["attempt"]) == ("lost", 1) and job["charge_core_hours"] == 0
    assert json.loads(site.lq("report", "--format", "json").stdout)["rows"] == json.loads(charged)["rows"]
    assert (hosts.shared / "work" / "ran").read_text() == "1\n"
    assert site.lq("ledger", "--verify").returncode == 0


def test_what_is_cancelled_while_a_host_is_quiet_is_stopped_when_it_answers(site, hosts):
    site.describe('python = "python3"')
    number = site.submit("sleep 1000", "on-nodes=h3")
    until(lambda: hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout)
    hosts.cut("h3")
    until(lambda: site.job(number)["quiet_since"])
    assert site.lq("cancel", str(number)).returncode == 0
    assert site.state(number) == "running"
    hosts.mend("h3")
    until(lambda: site.state(number) == "cancelled")
    assert not hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout
    site.write(site.file().replace('python = "python3"', 'python = "/opt/none/python3"'))
    site.lq("renew")
    until(lambda: 'python = "/path/to/python3" in its table' in (site.hosts_list()["h3"]["problem"] or ""))


def test_a_host_that_is_started_anew_loses_its_jobs_and_runs_others(site, hosts):
    site.describe()
    number = site.submit("sleep 1000", "on-nodes=h3", "retries=0")
    until(lambda: site.state(number) == "running")
    until(lambda: hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout)
    hosts.reboot("h3")
    until(lambda: site.state(number) == "lost")
    assert "started anew" in site.job(number)["reason"]
    later = site.submit("hostname", "on-nodes=h3")
    until(lambda: site.state(later) == "done")


def test_a_lease_ends_jobs_there_and_then_here(site, hosts):
    """Until it is over nothing runs again; the job is stopped by its own supervisor, though nobody can say so."""
    site.variables["LQ_LEASE_MARGIN"] = "1"
    site.describe('lease = "2s"')
    number = site.submit("sleep 1000", "on-nodes=h3", "retries=0", "grace=1s")
    until(lambda: hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout)
    hosts.cut("h3")
    until(lambda: site.state(number) == "lost")
    assert not [one for one in hosts.processes()["h3"] if "sleep 1000" in str(one)]


def test_a_clock_that_is_off_changes_nothing_in_the_books(site, hosts):
    site.describe()
    hosts.clock("h3", 7200)
    number = site.submit("lq phase solve -- sleep 0.5", "on-nodes=h3")
    until(lambda: site.state(number) == "done")
    assert "h3: its clock is" in site.lq("jobs").stderr
    until(lambda: 7_100_000 < site.hosts_list()["h3"]["clock_offset_ms"] < 7_300_000)
    later = site.submit("true", "on-nodes=h1")
    until(lambda: site.state(later) == "done")
    began, ended = (datetime.fromisoformat(site.job(number)[each]).timestamp() for each in ("started", "ended"))
    assert began <= ended < time.time() + 1 and ended - began < 60 and site.job(later)["elapsed_s"] < 60
    assert site.lq("ledger", "--verify").returncode == 0


def test_gpus_by_number_helpers_from_the_archive_and_words_of_the_head(site, hosts):
    site.describe()
    script = "echo $LQ_GPU_LIST $CUDA_VISIBLE_DEVICES; lq phase solve -- true; lq jobs; python3 -c 'import lq_inside'"
    number = site.submit(script, "gpus=2", "on-nodes=h1")
    until(lambda: site.state(number) == "done")
    printed = (hosts.shared / "work" / f"sh-{number}.out").read_text()
    assert "0,1 0,1" in printed and "works where it was submitted" in printed
    assert "solve" in site.lq("show", str(number)).stdout


def test_a_folder_that_hosts_do_not_see_is_refused(site, hosts):
    site.describe()
    until(lambda: all(node["answers"] for node in site.hosts_list().values()))
    hosts.run("mkdir -p /users/root/mine")
    done = site.lq("submit", "--set", "walltime=1m", "--", "true", where="/users/root/mine")
    assert done.returncode == 1 and "no host of queue all that could run it sees /users/root/mine" in done.stderr
    away = site.lq("submit", "--set", "walltime=1m", "--set", "output=/users/root/mine/out-{job}", "--", "true")
    assert away.returncode == 1 and "sees /users/root/mine, its output; name a folder that it shares" in away.stderr
    assert site.lq("submit", "--set", "nodes=2", "--", "true").returncode == 1


def test_a_job_travels_to_a_host_that_does_not_see_its_folder_and_what_it_made_comes_back(site, hosts):
    """Its host is cut off while it runs, and its own folder is removed nowhere before what it made is here."""
    site.describe()
    home = f"{site.folder}/mine"
    hosts.run(
        ["sh", "-c", f"mkdir -p {home}/in && head -c 6000000 /dev/urandom > {home}/in/big && ln -s big {home}/in/link"]
    )
    script = """#!/bin/sh
# /// job
# walltime = "5m"
# memory = "50 MiB/core"
# on-nodes = "h3"
# stage = { in = ["in"], out = ["made"] }
# ///
cd "$LQ_SCRATCH" && mkdir made && sha256sum < in/big > made/sum && cp in/big made/
echo said; while [ ! -e /shared/go ]; do sleep 0.05; done
"""
    hosts.run(["sh", "-c", f"cat > {home}/job.sh"], text=script)
    done = site.lq("submit", "job.sh", where=home)
    assert done.returncode == 0, done.stderr
    number = int(done.stdout.split()[0])
    until(lambda: "said" in site.lq("output", str(number)).stdout, "its output is read where it is made")
    assert site.lq("fetch", str(number), "in/*", "--to", "d", where=home).stdout.rstrip().endswith("from h3")
    assert not hosts.run(f"cmp {home}/in/big {home}/d/in/big").returncode
    (kept,) = json.loads(site.lq("hosts", "--kept", "--format", "json").stdout)
    assert (kept["node"], kept["bytes"], kept["job"]) == ("h3", 6_000_000, None)
    hosts.cut("h3")
    site.go()
    until(lambda: site.job(number)["quiet_since"])
    assert not hosts.run(f"ls {home}/made").stdout
    hosts.mend("h3")
    until(lambda: site.state(number) == "done")
    sums = hosts.run(f"cat {home}/made/sum; sha256sum < {home}/made/big; sha256sum < {home}/in/big").stdout.splitlines()
    assert len(sums) == 3 and len(set(sums)) == 1
    assert site.lq("output", str(number)).stdout == "said\n"
    again = site.lq("check", "job.sh", where=home)
    assert "h3 does not see" in again.stdout and "(2 files, 5.7 MiB, about 1s as fast" in again.stdout, again.stdout
    assert "1 item, 5.7 MiB; lq hosts drop" in site.lq("hosts", "--kept").stdout
    hosts.run("pkill -KILL -f lazy_quarry.link.server")  # an engine that has just begun reaches the host first
    assert site.lq("hosts", "drop", "h3", kept["name"]).stdout == f"{kept['name']} removed from h3\n"
    gone = site.lq("hosts", "drop", "h3", kept["name"])
    assert gone.returncode == 2 and "nothing of the name" in gone.stderr
    until(lambda: f"{number}-1" not in hosts.run(["ssh", "h3", "ls /var/tmp/lazy-quarry-0-*/spool-*"]).stdout)


def test_a_long_copy_is_told_counts_as_walltime_and_ends_with_its_job(site, hosts):
    site.describe('copy-rate = "1 MiB/s"')
    home = f"{site.folder}/slow"
    hosts.run(["sh", "-c", f"mkdir -p {home} && head -c 60000000 /dev/urandom > {home}/big"])
    script = (
        '#!/bin/sh\n# /// job\n# memory = "50 MiB/core"\n# on-nodes = "h3"\n# stage = { in = ["big"] }\n# ///\ntrue\n'
    )
    hosts.run(["sh", "-c", f"cat > {home}/job.sh"], text=script)

    def submitted(walltime):
        done = site.lq("submit", "--set", f"walltime={walltime}", "job.sh", where=home)
        assert done.returncode == 0, done.stderr
        return int(done.stdout.split()[0])

    number = submitted("10m")
    copy = until(lambda: (found := site.job(number).get("copying")) and found["left_s"] and found)
    assert copy["way"] == "in" and 0 < copy["done"] < copy["total"] == 60_000_000
    assert (
        "copying in, " in site.lq("jobs").stdout and "of 57.2 MiB so far, about" in site.lq("show", str(number)).stdout
    )
    site.lq("cancel", str(number))
    until(lambda: site.state(number) == "cancelled", "it ends long before all is copied")
    assert site.job(number)["attempt_s"] < 50
    late = submitted("4s")
    until(lambda: site.state(late) == "failed")
    assert ": its walltime of 4s was over while its files were copied there, " in site.job(late)["reason"]


def test_hosts_are_added_as_measured_and_removed_with_what_is_said_beside_them(site, hosts):
    site.write("# our workshop\nname = 'Workshop'\n")
    dry = site.lq("hosts", "add", "h1", "h3", "--dry-run")
    assert dry.returncode == 0 and "# our workshop" in dry.stdout and "# our" in site.file() and "h1" not in site.file()
    added = site.lq("hosts", "add", "h1", "h3")
    assert added.returncode == 0 and "(this machine)" in added.stdout
    assert re.search(r'names = "h1"\nhost = "h1"\ncores = \d+\nmemory = "\d+ MiB"', site.file())
    assert site.lq("hosts", "add", "h1").returncode == 2
    nowhere = site.lq("hosts", "add", "nowhere")
    assert nowhere.returncode == 1 and "nobody knows a host of that name" in nowhere.stdout
    assert site.lq("site", "check").returncode == 0
    number = site.submit(WAITS, "on-nodes=h3")
    until(lambda: site.state(number) == "running")
    busy = site.lq("hosts", "remove", "h3")
    assert busy.returncode == 2 and f"h3 has 1 job: {number}" in busy.stderr
    site.go()
    until(lambda: site.state(number) == "done")
    assert site.lq("hosts", "remove", "h3").returncode == 0
    assert '"h3"' not in site.file() and "# our workshop" in site.file()


def test_a_host_that_is_taken_out_of_the_file_by_hand_under_its_job_is_asked_back(site, hosts):
    site.describe()
    number = site.submit(WAITS, "on-nodes=h3")
    until(lambda: site.state(number) == "running")
    whole = site.file()
    site.write(whole[: whole.index('[[nodes]]\nnames = "h3"')])
    refused = site.lq("renew")
    assert refused.returncode == 2 and f"has no node h3 any more, and {number} is on it" in refused.stderr
    site.write(whole)
    site.go()
    until(lambda: site.state(number) == "done")


def test_a_host_on_which_nothing_runs_any_more_is_quiet_until_it_does(site, hosts):
    """Its network takes connections, and nobody answers."""
    site.describe()
    number = site.submit(WAITS, "on-nodes=h3")
    until(lambda: site.state(number) == "running")
    hosts.stop("h3")
    until(lambda: site.job(number)["quiet_since"])
    hosts.mend("h3")
    site.go()
    until(lambda: site.state(number) == "done")
    assert site.job(number)["attempt"] == 1


def test_a_host_with_less_than_was_said_is_closed(site, hosts):
    cores = site.describe()
    said = site.file()
    for true, untrue, words in (
        (
            f"cores = {cores['h1']}\n",
            "cores = 4096\n",
            f"it has {plural(cores['h1'], 'core')}, and the site file says 4096",
        ),
        ("gpus = 2\n", "gpus = 3\n", "it has 2 GPUs, and the site file says 3"),
    ):
        site.write(said.replace(true, untrue, 1))
        site.lq("renew")
        site.lq("node", "open", "h1")
        until(lambda words=words: site.hosts_list()["h1"]["closed"] == words)
        assert site.hosts_list()["h1"]["closed_since"]


def test_nothing_is_left_on_a_host_when_there_is_nothing_to_do(site, hosts):
    site.describe()
    number = site.submit("true", "on-nodes=h3")
    until(lambda: site.state(number) == "done")
    until(lambda: f"{number}-1" not in hosts.run(["ssh", "h3", "ls /var/tmp/lazy-quarry-0-*/spool-*"]).stdout)
    for pid in site.engine():
        hosts.run(f"kill -TERM {pid}")
    until(lambda: not [one for one in hosts.processes()["h3"] if "agent-" in str(one)], "its agent leaves")


def test_a_full_disk_there_keeps_a_job_waiting_and_says_so(site, hosts):
    site.describe()
    until(lambda: site.hosts_list()["h3"]["answers"])
    hosts.full("h3")
    number = site.submit("hostname", "on-nodes=h3")
    until(lambda: f"{number} cannot start on h3 yet: the disk is full" in site.lq("jobs").stderr)
    hosts.mend("h3")
    until(lambda: site.state(number) == "done")


def test_our_folder_there_is_removed_while_a_job_runs(site, hosts):
    site.describe()
    number = site.submit("sleep 1000", "on-nodes=h3", "retries=0")
    until(lambda: hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout)
    hosts.run(["ssh", "h3", "rm -rf /var/tmp/lazy-quarry-*"])
    site.submit("hostname", "on-nodes=h1")
    site.lq("node", "close", "h1")
    later = site.submit("hostname", "on-nodes=h1,h3")
    site.lq("cancel", str(number))
    until(lambda: site.state(later) == "done", "another finds its folder made anew")
    assert site.state(number) in ("lost", "cancelled")
    assert not hosts.run(["ssh", "h3", "pgrep -f '[s]leep 1000'"]).stdout


def test_a_second_state_folder_is_told_that_the_cores_are_in_use(site, hosts):
    site.describe()
    number = site.submit(WAITS, "on-nodes=h3")
    until(lambda: site.state(number) == "running")
    other = dict(site.variables)
    site.variables = {**other, "LQ_STATE": f"{site.folder}/second"}
    until(lambda: "in use by the jobs of" in (site.hosts_list()["h3"]["problem"] or ""))
    site.lq("renew")
    site.variables = other
    site.go()
    until(lambda: site.state(number) == "done")


def test_the_words_of_the_site_file_about_hosts(site):
    wrong = {
        '[[nodes]]\nnames = "a"\ncores = 1\nmemory = "1 GiB"\n': "name the host that it is",
        '[[nodes]]\nnames = "a, b"\nhost = "x"\ncores = 1\nmemory = "1 GiB"\n': "a host is one node",
        '[[nodes]]\nnames = "a"\nhost = "-o evil"\ncores = 1\nmemory = "1 GiB"\n': "nodes.host",
        '[[storage]]\npath = "/x"\nnodes = "nix"\n': "there is no node nix",
    }
    for text, words in wrong.items():
        site.write(text)
        done = site.lq("site", "check")
        assert done.returncode == 1 and words in done.stdout, done.stdout

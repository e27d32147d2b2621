"""The application on hosts in a real terminal: a host is cut off under its jobs and comes back."""

import shlex

import pytest

from tests.conftest import until
from tests.run.test_site_of_hosts import OnHead
from tests.terminal.test_whole_path import Terminal, pytestmark  # noqa: F401


@pytest.fixture
def site(hosts):
    made = OnHead(hosts, "terminal")
    yield made
    made.end()


@pytest.fixture
def terminal(site, hosts, tmp_path):
    opened = []

    def open_(size=(160, 47)):
        variables = {**site.variables, "TERM": "tmux-256color", "LANG": "C.UTF-8"}
        command = shlex.join(
            hosts.on_head(["sh", "-c", "cd /shared/work && exec env -u COLUMNS -u LINES lq"], variables)
        )
        opened.append(Terminal(command, {}, tmp_path, size))
        return opened[-1]

    yield open_
    for each in opened:
        each.close()


def test_a_host_is_cut_off_under_its_jobs_and_its_ends_are_told_when_it_is_back(site, hosts, terminal):
    site.describe()
    waits = "while [ ! -e /shared/go ]; do sleep 0.05; done"
    numbers = [site.submit(waits + f"; exit {place % 3}", "name=cut") for place in range(12)]
    until(lambda: any(site.job(number)["nodes"] == ["h3"] for number in numbers))
    there = next(number for number in numbers if site.job(number)["nodes"] == ["h3"])
    screen = terminal()
    screen.sees("lazy quarry  Workshop", "ALL", "h1", "h3")
    hosts.cut("h3")
    screen.sees("no answer since", "1 job there")
    screen.keys("M-4")
    screen.sees("no answer since", f"{there}  cut")
    screen.keys("b", "End")
    screen.sees("by node", "╱╱╱", "H3", "no answer since")
    shown = site.job(there)
    assert shown["state"] == "running" and shown["quiet_since"]
    screen.keys("b")
    hosts.mend("h3")
    site.go()
    until(lambda: all(site.state(number) in ("done", "failed") for number in numbers))
    assert [site.job(number)["exit"] for number in numbers] == [place % 3 for place in range(12)]
    assert all(site.job(number)["attempt"] == 1 for number in numbers)
    screen.keys("M-5")
    screen.sees("cut", "failed, exit 1")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_files_are_seen_on_their_way_come_back_and_are_fetched_from_review(site, hosts, terminal):
    site.describe('copy-rate = "1 MiB/s"')
    home, to = f"{site.folder}/home", f"{site.folder}/to"
    hosts.run(["sh", "-c", f"mkdir -p {home} && head -c 12000000 /dev/urandom > {home}/in.bin"])
    script = """#!/bin/sh
# /// job
# walltime = "5m"
# memory = "50 MiB/core"
# on-nodes = "h3"
# output = "/dev/null"
# stage = { in = ["in.bin"], out = ["made.bin"] }
# ///
cd "$LQ_SCRATCH" && cp in.bin made.bin
"""
    hosts.run(["sh", "-c", f"cat > {home}/copied.sh"], text=script)
    number = int(site.lq("submit", "copied.sh", where=home).stdout.split()[0])
    screen = terminal()
    screen.sees("lazy quarry  Workshop", "ALL")
    screen.keys("M-4")
    screen.sees("copying in, ", "of 11.4 MiB so far")
    until(lambda: site.state(number) == "done")
    screen.keys("M-5")
    screen.sees("copied", "done in")
    screen.keys("i")
    screen.sees("made.bin", "1 file, newest first")
    for told in ("1 file fetched, 11.4 MiB", "1 file already there"):
        screen.keys("F", "C-u")
        screen.type(to)
        screen.keys("Enter")
        screen.sees(told)
    sums = hosts.run(f"sha256sum < {home}/in.bin; sha256sum < {to}/made.bin").stdout.splitlines()
    assert len(sums) == 2 and sums[0] == sums[1]
    screen.keys("C-q")
    screen.sees("the end 0")


def test_another_site_is_opened_from_ctrl_p_in_a_small_terminal(site, hosts, terminal):
    site.describe()
    hosts.run(["sh", "-c", f"cat > {site.folder}/sites/spare.toml"], text='name = "Spare"\n')
    screen = terminal((100, 30))
    screen.sees("Workshop")
    screen.keys("C-p")
    screen.type("open the site")
    screen.sees("open the site spare")
    screen.keys("Enter")
    screen.sees("◢◣ Spare", "HERE")
    screen.keys("C-q")
    screen.sees("the end 0")
    hosts.run("pkill -KILL -f lazy_quarry.link.server; rm -rf /users/root/.local/state/lazy-quarry")

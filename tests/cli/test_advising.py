"""Advice for the next run, and how runs scale, from real runs on this machine."""

import json

from tests.conftest import script


def test_advice_comes_from_earlier_runs_of_a_name(machine):
    (machine.work / "run.sh").write_text(script('name = "steady"\nwalltime = "2h"\nmemory = "300 MiB/core"', "sleep 1"))
    done = machine.lq("advise", "steady")
    assert done.returncode == 2 and "no job of yours" in done.stderr
    for _ in range(3):
        assert machine.lq("submit", "run.sh").returncode == 0
    machine.lq("wait", "1", "2", "3")
    told = json.loads(machine.lq("advise", "steady", "--format", "json").stdout)
    assert {"runs", "walltime_s", "memory_mib", "cores", "saves_core_hours", "starts_sooner_s", "reason"} <= set(told)
    assert told["runs"] == 3 and told["promise"] is None and told["walltime_s"] == 60 and told["saves_core_hours"] > 5
    assert told["set"]["walltime"] == "1m" and "so few runs say little" in told["reason"]
    text = machine.lq("advise", "2").stdout
    assert "2h -> 1m" in text and "lq again 3 --set 'walltime=1m'" in text
    again = machine.lq("again", "3", "--set", "walltime=1m")
    assert again.returncode == 0, again.stderr
    machine.lq(
        "wait",
        machine.lq("submit", "run.sh", "--set", "name=other", "--format", "json")
        .stdout.split(":")[1]
        .split(",")[0]
        .strip(),
    )
    told = json.loads(machine.lq("advise", "other", "--format", "json").stdout)
    assert told["runs"] >= 4 and "other and other names with the same commands" in told["reason"]


def test_a_name_alone_joins_no_runs(machine):
    for folder, body in (("flow", "sleep 1"), ("bench", "sleep 1.1"), ("flow", "sleep 2")):
        (machine.work / folder).mkdir(exist_ok=True)
        text = script(
            f'name = "solve"\nwalltime = "3s"\nmemory = "50 MiB/core"\ndirectory = "{machine.work / folder}"', body
        )
        (machine.work / "s.sh").write_text(text)
        machine.lq("submit", "s.sh")
    machine.lq("wait", "1", "2", "3")

    def runs(job):
        told = json.loads(machine.lq("advise", job, "--format", "json").stdout)
        return told["runs"], told["reason"]

    assert [runs(job)[0] for job in "123"] == [2, 1, 2]  # the same folder, or the same commands
    assert f"solve in {machine.work}/flow" in runs("3")[1] and "solve with the same commands" in runs("2")[1]
    left_out = machine.lq("scaling", "--name", "solve")
    assert "1 run of that name left out" in left_out.stderr
    # a walltime that was overrun is advised to be longer, however little
    late = machine.lq(
        "submit", "--quiet", "--set", "name=slow", "--set", "walltime=1s", "--", "sleep", "9"
    ).stdout.strip()
    machine.lq("wait", late)
    told = json.loads(machine.lq("advise", late, "--format", "json").stdout)
    assert (
        told["walltime_s"] > 1 and "The only run of slow with the same commands was not done within" in told["reason"]
    )


def test_two_or_three_sizes_tell_what_the_whole_needs(machine):
    head = 'name = "grow"\nwalltime = "1h"\nmemory = "300 MiB/core"'
    (machine.work / "grow.sh").write_text(script(head, 'sleep "$(expr ${n:-40} / 4)"'))
    done = machine.lq("try", "--format", "text", "grow.sh", "--value", "n=4,8,12", "--draft", "next.sh")
    assert done.returncode == 0, done.stderr
    assert "trying 3 sizes as 1, 2, 3" in done.stdout and "(n=12): Done" in done.stdout
    assert "n=40 should take about" in done.stdout and "8 times in 10" in done.stdout
    drafted = (machine.work / "next.sh").read_text()
    assert 'walltime = "1m"' in drafted and drafted.endswith((machine.work / "grow.sh").read_text().split("///\n")[-1])
    assert machine.lq("check", "next.sh").returncode == 0
    assert "n=900 should" in machine.lq("try", "grow.sh", "--value", "n=4,8", "--whole", "900").stderr
    for words, said in (
        (("--value", "m=1,2"), "doesn't use ${m}"),
        (("--value", "n=1,2,3,4,5,6"), "at most 5"),
        (("--value", "n"), "name=value"),
        (("--value", "n=1,2", "--draft", "no/such/folder/x.sh"), "cannot be written"),
    ):
        done = machine.lq("try", "grow.sh", *words)
        assert done.returncode == 2 and said in done.stderr, done.stderr


def test_scaling_by_cores_and_by_a_parameter(machine):
    head = 'name = "solve"\nwalltime = "1m"\nmemory = "32 MiB/core"'
    (machine.work / "solve.sh").write_text(script(head, 'sleep "$((3 - LQ_CORES))"'))
    (machine.work / "grow.sh").write_text(
        script(f"{head}\n[array.sweep]\nn = [1, 2, 3]".replace("solve", "grow"), 'sleep "$n"')
    )
    machine.lq("submit", "solve.sh")
    machine.lq("submit", "solve.sh", "--set", "threads=2")
    machine.lq("submit", "grow.sh")
    machine.lq("wait", "1", "2", "3")
    told = json.loads(machine.lq("scaling", "1", "2", "--format", "json", "--svg", "scaling.svg").stdout)
    assert [point["cores"] for point in told["points"]] == [1, 2] and told["few"]
    assert {"cores", "seconds", "speedup", "efficiency"} <= set(told["points"][0]) and told["fit"]["law"] == "amdahl"
    assert "How solve scales" in (machine.work / "scaling.svg").read_text()
    assert "of its work is serial" in machine.lq("scaling", "--name", "solve").stdout
    text = machine.lq("scaling", "--name", "grow", "--by", "n", "--for", "6").stdout
    assert "seconds grow about as n to the power of" in text and "for n=6" in text
    for words, said in (
        (("scaling",), "give jobs"),
        (("scaling", "3", "--by", "m"), "too few"),
        (("scaling", "1", "--for", "3"), "--by"),
    ):
        done = machine.lq(*words)
        assert done.returncode == 2 and said in done.stderr

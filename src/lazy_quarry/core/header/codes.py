"""Every check that there is: its code, how bad it is, an example, and what to do. docs/checks.md is made from this."""

from msgspec import Struct


class Code(Struct, frozen=True):
    """A kind of finding. ``worst`` is its gravest severity; ``fixed``: there may be a fix that is certain."""

    code: str
    worst: str
    what: str
    example: str
    remedy: str
    fixed: bool = False


def _code(code: str, worst: str, what: str, example: str, remedy: str, fixed: bool = False) -> Code:
    return Code(code, worst, what, example, remedy, fixed)


E, W, H = "error", "warning", "hint"
CODES: tuple[Code, ...] = (
    # the file's form
    _code("unreadable", E, "The file cannot be read, or is no script.", "an empty file", "Name a script saved as UTF-8."),
    _code("script-too-long", E, "The script is longer than 1 MiB.", "data in a here-document", "Keep data in files of their own."),
    _code("header-too-long", E, "The header is longer than 64 KiB.", "a list of 10,000 names", "Put the list into a file, and name that."),
    _code("not-text", E, "Something in the script is no character.", "half of a UTF-16 pair", "Save it as UTF-8."),
    _code("too-slow", E, "The script takes too long to check.", "commands nested thousands deep", "Make it simpler."),
    _code("not-read", H, "There is more in the script than is looked at.", "50,000 words", "Put parts of it into scripts of their own."),
    _code("line-ends", E, "Windows line ends; the interpreter would not be found.", "`#!/bin/sh` + CR", "Save it with Unix line ends.", True),
    _code("interpreter-missing", E, "The first line doesn't say what runs the script.", "`# /// job` in line 1", "Begin with what runs it: `#!/usr/bin/env bash`, `python3`, …", True),
    _code("interpreter-absent", E, "What the first line names isn't here.", "`#!/usr/bin/basj`", "Correct the path, or load the module that has it."),
    _code("syntax", E, "The script's own language cannot read it.", "`if true; then` without `fi`", "Mend the line that is named, or one before it."),
    _code("no-command", W, "There is nothing to run below the header.", "a header alone", "Write the commands."),
    _code("header-missing", W, "There is no header, so every request is a default.", "`#!/bin/sh` + `true`", "Add a `# /// job` block.", True),
    _code("header-nearly", E, "Something is nearly the beginning of a header, and as it stands none.", "`#/// job`", "Write `# /// job`; every line of a header begins with `# `.", True),
    _code("header-unclosed", E, "The header that opens in this line has no end.", "`# /// job` without `# ///`", "Close it with `# ///`; every line between begins with `# `.", True),
    _code("header-late", E, "The header stands after the first command.", "`true` before `# /// job`", "Move it up, below the interpreter line.", True),
    _code("header-twice", E, "There is a second job header.", "two `# /// job`", "Make one of them."),
    _code("header-crowded", E, "Two blocks of different types touch.", "`# ///` then `# /// script`", "Put an empty line between them.", True),
    _code("toml", E, "The header isn't TOML.", "`# walltime = 30m`", "Put text in quotes; close every bracket.", True),
    # keys and values
    _code("key-unknown", E, "There is no such key.", "`# memroy = …`", "Take the nearest one, which is named.", True),
    _code("value", E, "A key's value cannot be read, has no unit, or is out of range.", '`# walltime = "90"`', "Write it as the message shows."),
    _code("override", E, "A `--set` isn't KEY=VALUE.", "`--set walltime`", "Write `--set walltime=2h`."),
    _code("walltime-absent", W, "No walltime: the queue's default would stop it.", "a header without `walltime`", "Ask for what it needs.", True),
    _code("memory-absent", W, "No memory: each core gets the queue's default.", "a header without `memory`", "Ask for what it needs.", True),
    _code("array", E, "The array's tasks cannot be made out.", '`# level = { lines = "gone.txt" }`', "Name files that are there; give each tied parameter equally many values."),
    # the site
    _code("queue", E, "There is no such queue, it is closed, or not for you.", '`# queue = "tidel"`', "Take one that Survey shows.", True),
    _code("account", E, "There is no such account, or you may not charge it.", '`# account = "tides"`', "Take one of yours.", True),
    _code("tier", E, "There is no such tier, it isn't for you, or the queue serves another.", '`# tier = "urgnet"`', "Take one that Survey shows.", True),
    _code("module", E, "The site has no such module, or offers none at all.", '`# modules = ["surge/2.3"]`', "Take one that Survey shows.", True),
    _code("group", E, "You are not in the group that may read.", '`# readable-by = "nobody"`', "Name a group of yours."),
    _code("over-limit", E, "More than a queue or tier allows.", '`# walltime = "9d"`', "Ask for the limit or less, or another queue.", True),
    _code("queue-unfit", H, "One of several queues would never run it.", '`# queue = ["short", "long"]` for 9 hours', "Leave that queue out, or ask for less."),
    _code("impossible", E, "No idle queue could ever run this; the two lines that disagree are named.", "`# gpus = 4` in a queue without", "Ask for the nearest possible, which is named."),
    _code("shape", E, "Counts don't multiply.", "`nodes = 2`, `ranks-per-node = 4`, `ranks = 10`", "Leave one of them out."),
    _code("budget", E, "The account has nothing left, or less than it may charge.", "300 core-hours of 12 left", "Charge another account, or ask for less."),
    _code("path", E, "Its folder, output or input cannot be had.", '`# output = "/root/x"`', "Name a place you may write."),
    _code("storage-unfit", W, "Heavy work in a storage area that doesn't stand it.", "4 nodes in `/home`", "Work in the area that is named, or stage."),
    # the plan of it
    _code("output-repeats", W, "Later runs would write over the output.", '`# output = "out.txt"`', "Put `{job}` into the name.", True),
    _code("output-clash", E, "Tasks of an array would write over one another; two of them are named.", '`# output = "{job}-{level}.txt"` in a sweep of two parameters', "Put `{task}` into the name, or every parameter.", True),
    _code("file-clash", W, "Commands of two tasks would write one file.", "`model > results.csv` in an array", "Put `$LQ_TASK` into the name, or every parameter."),
    _code("overwrites", H, "A file that is there would be written over.", "`prog > results.csv` again", "Move it, or put `$LQ_JOB` into the name."),
    # chains
    _code("chain-empty", E, "A chain file without jobs, or with too many.", "`name = \"season\"` alone", "Add `[jobs.NAME]`."),
    _code("chain-script", E, "A job of a chain says what it runs: a script or commands.", "`[jobs.a]` with neither", "`script = \"a.sh\"`."),
    _code("chain-unknown", E, "A job waits for one that isn't in the chain.", "`after = { prepair = \"succeeds\" }`", "Take the nearest one, which is named."),
    _code("chain-cycle", E, "Jobs wait for one another, so none could start.", "a after b, b after a", "Take one of these away."),
    _code("chain-never", E, "What a job waits for can't all come true.", "after a succeeds, and after b that runs only if a fails", "Leave one of the conditions out, or make it `finishes`."),
    _code("chain-tasks", E, "`each-succeeds` between arrays with other tasks.", "4 tasks after 5", "Give both the same tasks, or wait for all: `succeeds`."),
    _code("chain-alone", H, "A job that waits for none, and for which none waits.", "`[jobs.extra]`", "Tie it to the others, or submit it by itself."),
    _code("not-before-past", H, "The time is over already.", "`# not-before = 2020-01-01T00:00:00Z`", "Leave it out."),
    _code("warn-untrapped", W, "SIGUSR1 would end a script that has no trap for it.", '`# warn = "5m"` alone', "`trap save USR1`."),
    _code("nodes-half-used", H, "Whole nodes, and at most half of their cores used.", "`whole-nodes = true`, 4 of 32 cores", "Use more ranks, or share the nodes."),
    _code("at-once-idle", H, "More at once than there are tasks.", "`at-once = 50` of 12 tasks", "Leave it out."),
    _code("parameter-unused", W, "No command uses this parameter.", "`level` in the sweep only", "Use `$level`, or take it out."),
    _code("task-without-array", W, "$LQ_TASK is set only in arrays.", '`echo "$LQ_TASK"`', "Add an `[array]`, or leave it out."),
    _code("first-node-only", W, "Several nodes requested, only the first one used.", "`nodes = 4`, `./program`", "Start it with mpirun or `lq ranks`."),
    _code("one-rank-used", H, "Several ranks requested, one process started.", "`ranks = 8`, `./program`", "Start it with mpirun; for threads say `threads = 8`."),
    _code("ranks-differ", W, "The starter is told another number of ranks.", "`ranks = 16`, `mpirun -n 8`", 'Leave `-n` out, or write `-n "$LQ_RANKS"`.'),
    _code("threads-differ", W, "Another number of threads than cores for each rank.", "`threads = 4`, `OMP_NUM_THREADS=8`", "Leave it out; it is set for you.", True),
    _code("stage-unused", W, "Files are staged, and no command goes to them.", "no `$LQ_SCRATCH`", '`cd "$LQ_SCRATCH"`.'),
    _code("files-travel", H, "Hosts that could run it don't see its folder, so what `stage` names is copied there, and results back.", "`stage = { in = [\"north.nc\"] }` at home", "Nothing; or submit from a folder that they see, or say `on-nodes`."),
    _code("scratch-unused", H, "Scratch requested and never used.", '`# scratch = "10 GiB"`', "Use `$LQ_SCRATCH`, or leave it out."),
    _code("after", E, "What it waits for isn't there, or can no longer happen.", '`# after = { 41 = "succeeds" }`', "Name a job of yours, by number or name."),
    # the commands
    _code("variable-unset", W, "A variable is used and never set.", '`cd "$RESULTS"`', "Set it, put it into `environment`, or correct its name.", True),
    _code("program-absent", W, "No program of that name on the PATH or in a loaded module.", "`surge` without its module", "Load the module that is named, or correct the name.", True),
    _code("program-closed", W, "The file is there but may not be executed.", "`./run.sh` with mode 644", "`chmod +x run.sh`."),
    _code("file-absent", E, "A file that is named isn't where the job would start.", "`prog inputs/north.nc`", "Correct the path, or put the file there."),
    _code("folder-absent", W, "A command writes into a folder that isn't there.", "`prog > logs/a.txt` without `logs`", "Make it before: `mkdir -p logs`.", True),
    _code("needs-person", W, "The command waits for somebody at a keyboard.", "`sudo`, `vim`, `less`", "Leave it out."),
    _code("background-left", W, "A command goes on in the background when the script ends.", "`prog &` in the last line", "End with `wait`.", True),
    _code("goes-on", H, "A failing command doesn't stop the script.", "no `set -e`", "`set -euo pipefail`.", True),
    # earlier runs
    _code("walltime-for-most", H, "A few earlier runs of that name took far longer than all others.", "`4h`, and 31 of 32 took 20m", "Ask for all, or for most of them where a stop costs little: `retries`, `at-overtime`."),
    _code("walltime-generous", H, "Far more time than earlier runs of that name took.", "`12h`, and 40m were needed", "Ask for what they took and a margin; less starts sooner."),
    _code("walltime-short", W, "Less time than an earlier run of that name took.", "`30m`, and 50m were needed", "Ask for more."),
    _code("memory-generous", H, "Far more memory than earlier runs of that name used.", "`64 GiB`, and 3 GiB were used", "Ask for what they used and a margin."),
    _code("cores-idle", H, "Earlier runs of that name kept few of these cores busy.", "24 cores, 6 busy", "Ask for fewer, or find what holds them up."),
)  # fmt: skip
KNOWN = {one.code: one for one in CODES}


def table(slips: dict[int, tuple[str, str]]) -> str:
    """docs/checks.md: all codes, and the slips of the shell (``shell-`` and ShellCheck's number)."""
    words = {E: "must change", W: "worth a look", H: "hint"}
    lines = [
        "# Checks",
        "",
        "What `lazy-quarry check` and Draft say of a script. A code never changes its meaning. *f9* in Draft makes the",
        "fix where there is one that is certain. This page is made by `make docs`.",
        "",
        "| code | at worst | what it says | example | what to do | fix |",
        "|---|---|---|---|---|---|",
    ]
    for one in CODES:
        fix = "f9" if one.fixed else ""
        lines.append(f"| `{one.code}` | {words[one.worst]} | {one.what} | {one.example} | {one.remedy} | {fix} |")
    lines += [
        "",
        "## Slips of the shell",
        "",
        "Found by [ShellCheck](https://www.shellcheck.net), chosen and reworded; its page for the number says more.",
        "They are told for bash, sh, dash and ksh only.",
        "",
        "| code | | what it says |",
        "|---|---|---|",
    ]
    for number, (severity, what) in sorted(slips.items()):
        cell = what.replace("|", "\\|")
        lines.append(f"| `shell-{number}` | {words[severity]} | {cell} |")
    return "\n".join(lines) + "\n"

"""Try readers with made-up inputs and print how many; exit 1 when one broke a promise, with the input that did.

``python -m fuzz [--seconds 60] [--inputs N] [--seed N] [TARGET...]``. The time is shared by the targets; with ``--inputs`` each
gets as many.
Inputs grow from those in tests/corpus/fuzz, towards code that none has reached yet (atheris, over libFuzzer). An input that broke
a promise is written beside them, where the tests find it.
"""

import argparse
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

CORPUS = Path(__file__).parents[1] / "tests" / "corpus" / "fuzz"
MEMORY = "/dev/shm"
LONGEST_INPUT_S = 5
"""An input that takes longer is one that keeps its reader busy."""
LONGEST = 16_384


def main() -> int:
    """Run the targets one after another, each in a process of its own."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60.0)
    parser.add_argument("--inputs", type=int, default=0)
    parser.add_argument("--seed", type=int, default=0, help="the same begins with the same inputs; 0: others each time")
    parser.add_argument("targets", nargs="*")
    given = parser.parse_args()
    from fuzz.targets import TARGETS

    chosen = given.targets or list(TARGETS)
    share = max(2, int(given.seconds / len(chosen)))
    broken, total = [], 0
    for name in chosen:
        seeds = CORPUS / name
        with (
            tempfile.TemporaryDirectory(prefix="lq-fuzz-") as grown,
            # What it leaves is removed here: its process ends without any clearing up.
            tempfile.TemporaryDirectory(prefix="lq-fuzz-", dir=MEMORY if os.access(MEMORY, os.W_OK) else None) as room,
        ):
            words = [sys.executable, "-m", "fuzz.one", name, grown, str(seeds), f"-artifact_prefix={grown}/broken-"]
            words += [f"-max_len={LONGEST}", f"-timeout={LONGEST_INPUT_S}", "-print_final_stats=1", "-verbosity=0"]
            words += [f"-seed={given.seed}"] if given.seed else []
            words += [f"-runs={given.inputs}"] if given.inputs else [f"-max_total_time={share}"]
            around = {**os.environ, "TMPDIR": room}
            done = subprocess.run(words, capture_output=True, text=True, errors="replace", check=False, env=around)
            count = re.search(r"number_of_executed_units:\s*(\d+)", done.stderr)
            total += int(count[1]) if count else 0
            print(f"{name:<12} {int(count[1]) if count else 0:>10,} inputs", flush=True)
            for found in Path(grown).glob("broken-*"):
                kept = seeds / found.name.removeprefix("broken-")
                kept.write_bytes(found.read_bytes())
                broken.append(f"{name}: {kept}")
            if done.returncode and not any(one.startswith(f"{name}:") for one in broken):
                broken.append(f"{name}: {done.stderr[-2000:]}")
            elif done.returncode:
                print(done.stderr[-3000:])
    print(f"{'together':<12} {total:>10,} inputs")
    for one in broken:
        print(f"BROKEN: {one}")
    return 1 if broken else 0


if __name__ == "__main__":
    code = main()
    sys.stdout.flush()
    os._exit(code)

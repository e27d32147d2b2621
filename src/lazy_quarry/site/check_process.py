"""The check of a long script in a process of its own, which can be ended: nobody else waits for it.

What a check costs grows with the script. A short one is checked where it is asked for.
"""

import asyncio
import os
import pickle
import resource
import sys
from contextlib import suppress

from lazy_quarry.core.header.check import CheckContext, Checked, check_script
from lazy_quarry.core.header.diagnostic import error
from lazy_quarry.core.site import Site
from lazy_quarry.core.values import replace
from lazy_quarry.probe.script import with_surroundings

LONG = 32 * 2**10
"""From so many bytes on a call with a script has it checked apart."""
MOST_CPU_S, MOST_S = 2, 20.0
"""Seconds of the processor that a check may take, and of the clock on a machine that is busy with other things."""
MOST_MEMORY = 2 * 2**30
_TOO_SLOW = Checked(
    (error("too-slow", "this script takes too long to check; make its header or its commands simpler"),), None
)


async def checked_apart(site: Site, context: CheckContext) -> Checked:
    """Check a script; one that takes too long is told as such.

    What is not known yet of the files that it names is looked up by the other process too.
    """
    process = await asyncio.create_subprocess_exec(
        sys.executable, "-m", __name__, stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE
    )
    try:
        async with asyncio.timeout(MOST_S):
            told, _ = await process.communicate(pickle.dumps((site, context)))
    except TimeoutError:
        told = b""
    finally:
        if process.returncode is None:
            with suppress(ProcessLookupError):
                process.kill()
            await process.wait()
    if process.returncode != 0 or not told:
        return _TOO_SLOW
    found: Checked = pickle.loads(told)  # what our own process made
    return found


def main() -> None:
    """``python -m lazy_quarry.site.check_process``: a site and a context come in, what was found goes out."""
    site, context = pickle.load(sys.stdin.buffer)
    used = resource.getrusage(resource.RUSAGE_SELF)
    spent = int(used.ru_utime + used.ru_stime) + 1
    resource.setrlimit(resource.RLIMIT_CPU, (spent + MOST_CPU_S,) * 2)
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY,) * 2)
    os.nice(5)
    submission = context.submission
    if not submission.surroundings.looked:
        submission = with_surroundings(submission)
        context = replace(context, submission=submission)
    sys.stdout.buffer.write(pickle.dumps(check_script(submission.script, site, context)))


if __name__ == "__main__":
    main()

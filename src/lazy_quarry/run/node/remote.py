"""The agent's archive on a host that is reached by SSH: it says what the host is, and what it sees of a folder.

Standard input has a request a line, standard output an answer a line, both JSON. It begins with a greeting, so that whoever sent
it knows that all of it came and runs.
"""

from __future__ import annotations

import json
import os
import sys

from lazy_quarry import __version__
from lazy_quarry.run.node.versions import NEWEST

TYPE_CHECKING = False  # typing takes longer to load than a relay has
if TYPE_CHECKING:
    from typing import Any


def main() -> None:
    """What the archive does: ``talk`` answers, ``relay JOURNAL`` passes on to the agent, ``agent SPOOL`` is one."""
    word, *more = sys.argv[1:]
    if word == "agent":
        from pathlib import Path

        from lazy_quarry.run.node.agent import serve  # only one of them needs all of that

        serve(Path(more[0]))
    elif word == "relay":
        from lazy_quarry.run.node.hosted import relay

        relay(sys.argv[0], more[0])
    else:
        talk()


def talk() -> None:
    """Answer until nobody asks any more."""
    from lazy_quarry.run.node.about_host import ANSWERS

    say({"greeting": __version__, "messages": NEWEST, "pid": os.getpid()})
    for line in sys.stdin.buffer:
        try:
            asked = json.loads(line)
            say({"answer": ANSWERS[asked["ask"]](*asked.get("of", []))})
        except OSError as fault:
            say({"fault": fault.strerror or str(fault)})
        except (ValueError, KeyError, TypeError) as fault:
            say({"fault": f"it can't be understood: {fault!r}"})


def say(what: dict[str, Any]) -> None:
    """Print an answer, at once."""
    sys.stdout.write(json.dumps(what) + "\n")
    sys.stdout.flush()

"""The agent's archive on a host that is reached by SSH: it says what the host is, and what it sees of a folder.

Standard input has a request a line, standard output an answer a line, both JSON. It begins with a greeting, so that whoever sent
it knows that all of it came and runs.
"""

from __future__ import annotations

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
    import json

    from lazy_quarry.run.node.about_host import ANSWERS

    def say(what: dict[str, Any]) -> None:
        say_line(json.dumps(what))

    say({"greeting": __version__, "messages": NEWEST, "pid": os.getpid()})
    for line in sys.stdin.buffer:
        try:
            asked = json.loads(line)
            say({"answer": ANSWERS[asked["ask"]](*asked.get("of", []))})
        except OSError as fault:
            say({"fault": fault.strerror or str(fault)})
        except (ValueError, KeyError, TypeError) as fault:
            say({"fault": f"it can't be understood: {fault!r}"})


def say_line(line: str) -> None:
    """Print an answer, at once."""
    sys.stdout.write(line + "\n")
    sys.stdout.flush()


def plain_json(what: dict[str, str | int]) -> str:
    """A table of texts and whole numbers in JSON (RFC 8259): the module for that takes longer to load than all of a relay."""
    return "{" + ", ".join(f"{_quoted(key)}: {_quoted(value)}" for key, value in what.items()) + "}"


def _quoted(value: str | int) -> str:
    if not isinstance(value, str):
        return str(int(value))
    pairs = value.encode("utf-16-be", "surrogatepass")
    units = [pairs[at] << 8 | pairs[at + 1] for at in range(0, len(pairs), 2)]
    return '"' + "".join(chr(one) if 32 <= one < 127 and one not in b'"\\' else f"\\u{one:04x}" for one in units) + '"'

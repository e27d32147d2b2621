"""Commands and files of each task, as far as the script's text shows them."""

from lazy_quarry.core.header.script_body import read_body
from lazy_quarry.core.job.clashes import filled
from lazy_quarry.core.job.request import Request

MOST_COMMANDS = 3
"""Commands of a script that are shown of each task."""


def commands_of(script: str, request: Request) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The commands that use what tells tasks apart (where none does, the last one), and the words of files they write."""
    assert request.array is not None
    body = read_body(script)
    if body is None:
        return (), ()
    told = dict.fromkeys((*request.array.names, "LQ_TASK"), "")
    using, outputs = [], []
    for command in body.commands:
        line = " ".join(word.text for word in command.words)
        into = [*((">", word) for word in command.outputs), *((">>", word) for word in command.appends)]
        line += "".join(f" {sign} {word.text}" for sign, word in into)
        outputs += [word.text for word in command.outputs]
        if filled(line, told) != line:
            using.append(line)
    last = [" ".join(word.text for word in body.commands[-1].words)] if body.commands else []
    return tuple((using or last)[:MOST_COMMANDS]), tuple(dict.fromkeys(outputs))

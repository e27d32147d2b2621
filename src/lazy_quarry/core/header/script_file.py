"""A script's file as text."""

from lazy_quarry.errors import BadValue


def decode_script(raw: bytes) -> str:
    """The text of a script. Raises :class:`BadValue` for what is no script: empty, binary, not UTF-8."""
    if not raw.strip():
        raise BadValue("the file is empty; a script has an interpreter line, a header and commands")
    if b"\0" in raw:
        raise BadValue("the file is binary, not a script; write a script that runs it")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        line = raw[: fault.start].count(b"\n") + 1
        raise BadValue(f"line {line} is not UTF-8; save the file as UTF-8") from None

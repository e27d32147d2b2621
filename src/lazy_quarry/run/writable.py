"""Whether a job could use its folder and its files here, found out without making anything."""

import os


def unwritable(path: str) -> str:
    """Why a file could not be written, folders above it being made as needed; empty when it could."""
    if os.path.isdir(path):
        return "is a folder; name a file in it"
    if os.path.lexists(path):
        return "" if os.access(path, os.W_OK) else "cannot be written: it is read-only; name another place"
    above = os.path.dirname(path)
    while above and not os.path.lexists(above):
        above = os.path.dirname(above)
    if not os.path.isdir(above or "."):
        return f"cannot be written: {above} is no folder; name another place"
    if not os.access(above or ".", os.W_OK | os.X_OK):
        return f"cannot be written: {above} may not be written to; name another place"
    return ""


def unusable(folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
    """Why a job could not start in its folder, write its files or read its input: by header key, what is wrong with it."""
    if not os.path.isdir(folder):
        return {"directory": f"{folder or '(none)'} is not there; make it, or name another"}
    found = {key: f"{path} {problem}" for key, path in written.items() if (problem := unwritable(path))}
    if input_path and (not os.path.isfile(input_path) or not os.access(input_path, os.R_OK)):
        found["input"] = f"{input_path} is not there or may not be read"
    return found

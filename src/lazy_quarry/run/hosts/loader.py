"""What runs first on a host: a few lines of Python in the command itself, which take the agent from their standard input.

The command is one line that bash, csh and fish take alike. It must also be understood by a Python that is too old to go on, so
that this can be told.
"""

from __future__ import annotations

import base64
import shlex
import zlib
from collections.abc import Sequence
from functools import cache

from lazy_quarry.run.hosts.archive import Archive

MARK = b"\0lazy-quarry "
"""Begins the first line that is the loader's own; what comes before it is of login files."""
OLDEST_PYTHON = (3, 9)
_LOADER = """
import binascii, os, stat, sys, zlib

def text(value):
    if value is True or value is False:
        return "true" if value else "false"
    pairs = bytearray(value.encode("utf-16-be", "surrogatepass"))
    units = [pairs[at] << 8 | pairs[at + 1] for at in range(0, len(pairs), 2)]
    return '"' + "".join([chr(one) if 32 <= one < 127 and one not in (34, 92) else "\\\\u%04x" % one for one in units]) + '"'

def say(**what):
    line = "{" + ", ".join(['"%s": %s' % (key, text(what[key])) for key in what]) + "}"
    os.write(1, b"\\0lazy-quarry " + line.encode() + b"\\n")

def given(length):
    found = b""
    while len(found) < length:
        some = os.read(0, length - len(found))
        if not some:
            say(is_="cut")
            sys.exit(4)
        found += some
    return found

def own(path):
    seen = os.lstat(path)
    return stat.S_ISDIR(seen.st_mode) and seen.st_uid == os.getuid() and not seen.st_mode & 0o022

def folder_of_this_user():
    begin = "lazy-quarry-%d-" % os.getuid()
    for place in ("/var/tmp", "/tmp"):
        if os.path.isdir(place) and os.access(place, os.W_OK | os.X_OK):
            for name in sorted(os.listdir(place)):
                if name.startswith(begin) and own(place + "/" + name):
                    return place + "/" + name
            made = place + "/" + begin + os.urandom(4).hex()
            os.mkdir(made, 0o700)
            os.chmod(made, 0o711)
            return made
    raise OSError(30, "there is no folder for it: /var/tmp or /tmp must be writable", "/var/tmp")

def main(digest, check, folder, words):
    version = ".".join(map(str, sys.version_info[:3]))
    if tuple(sys.version_info[:2]) < (3, 9):
        say(is_="old", python=version, path=sys.executable)
        sys.exit(3)
    where = folder or "/var/tmp"
    try:
        if folder:
            os.makedirs(folder, 0o700, exist_ok=True)
            if not own(folder):
                raise OSError(1, "it is somebody else's, or others may write into it", folder)
        else:
            where = folder_of_this_user()
        path = where + "/agent-" + digest[:32] + ".pyz"
        known = os.path.isfile(path) and zlib.crc32(open(path, "rb").read()) == int(check)
        say(is_="here", python=version, need=not known)
        if not known:
            whole = given(int.from_bytes(given(8), "big"))
            temporary = where + "/new-" + os.urandom(8).hex()
            beside = os.open(temporary, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
            try:
                view = memoryview(whole)
                while len(view):
                    view = view[os.write(beside, view):]
                os.fsync(beside)
                os.replace(temporary, path)
            except BaseException:
                os.unlink(temporary)
                raise
            finally:
                os.close(beside)
    except OSError as wrong:
        say(is_="unwritable", where=wrong.filename or where, why=wrong.strerror)
        sys.exit(5)
    ready = path[:-4] + "-" + (sys.implementation.cache_tag or "none") + ".pyz"
    sys.path.insert(0, ready if os.path.isfile(ready) else path)
    sys.argv[:] = [path] + words
    from lazy_quarry.run.node.remote import main
    main()

main(sys.argv[1], sys.argv[2], binascii.a2b_base64(sys.argv[3]).decode("utf-8", "surrogateescape"), sys.argv[4:])
"""


@cache
def _code() -> str:
    packed = base64.b64encode(zlib.compress(_LOADER.encode(), 9)).decode()
    return f'import binascii,zlib;exec(zlib.decompress(binascii.a2b_base64("{packed}")))'


def remote_command(archive: Archive, words: Sequence[str], python: str = "python3", spool: str = "") -> str:
    """The line that is run on a host: it takes the agent's archive where that isn't there, and starts it with ``words``.

    ``spool`` the folder that it is kept in, by default this user's own on that host. The
    words are plain: letters, digits and hyphens.
    """
    folder = base64.b64encode(spool.encode("utf-8", "surrogateescape")).decode() or "=="
    return (
        f"exec {shlex.quote(python)} -I -S -c '{_code()}' {archive.digest} {archive.check} {folder} {' '.join(words)}"
    )

"""The root file systems of the head and of the hosts: the machine's programs, and what is each one's own."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path

from cluster import kernel
from cluster.folder import CHECKOUT, Folder
from cluster.hosts import DISK, HEAD, HEAD_ADDRESS, HOMES, HOSTS, PEOPLE, SHARED, HostKind
from cluster.site import FILE, site_text

OWN = Path("/.cluster")
"""On the head: the hosts' disks, and what is mounted over files of /etc. Nobody but root may look there."""
_BUILT = Path("/proc")
"""Where a new root is put together: a folder whose own content no root takes over."""
_PROGRAMS = ("bin", "sbin", "lib", "lib32", "lib64", "libx32", "usr", "opt", "etc")
_DEVICES = ("null", "zero", "full", "random", "urandom", "tty")
_GREETING = "h2 is switched off on 12 December from 08:00 on; files in /var/tmp stay."


def build_head(folder: Folder) -> None:
    """Make the head's root: the machine's, with /tmp, /var/tmp, /run, homes and /shared of its own."""
    old = Path("/")
    kernel.mount("none", old, flags=kernel.PRIVATE | kernel.ALL_BELOW)
    kernel.mount("tmpfs", _BUILT, "tmpfs", options="mode=755")
    own = {"proc", "tmp", "run", SHARED.name, HOMES.name, OWN.name}
    for entry in sorted(old.iterdir()):
        if entry.name not in own:
            _show(entry, _BUILT / entry.name)
    for name in ("proc", "tmp", "run", "users"):
        (_BUILT / name).mkdir()
    for name, mode in (("tmp", "1777"), ("var/tmp", "1777"), ("run", "755")):
        kernel.mount("tmpfs", _BUILT / name, "tmpfs", options=f"mode={mode}")
    # In order, so that what lies below another of them is there with that.
    for path in sorted({CHECKOUT, folder.path, Path(sys.prefix), Path(sys.base_prefix)}):
        if not (_BUILT / path.relative_to("/")).exists():  # it is where the head has something of its own
            _show(path, _BUILT / path.relative_to("/"))
    _show(folder.shared, _BUILT / SHARED.name)
    (_BUILT / OWN.name).mkdir(mode=0o700)
    kernel.mount("proc", _BUILT / "proc", "proc")
    _own_names(_BUILT, _BUILT / OWN.name / "etc", HEAD, "/bin/bash")
    _homes(_BUILT / HOMES.name, folder, None)
    kernel.change_root(_BUILT)
    for host in HOSTS:
        disk = OWN / host.name
        disk.mkdir()
        kernel.mount("tmpfs", disk, "tmpfs", options=f"mode=755,size={host.disk_mib}m")


def build_host(host: HostKind, folder: Folder, groups: Mapping[Path, Path], boot: str) -> None:
    """Make a host's root, as its first process, in namespaces of its own; its disk is as the last boot left it, but for /tmp.

    ``groups`` are its control groups, by where they belong below /sys/fs/cgroup.
    """
    kernel.mount("none", "/", flags=kernel.PRIVATE | kernel.ALL_BELOW)
    kernel.mount("tmpfs", _BUILT, "tmpfs", options="mode=755")
    for name in _PROGRAMS:
        if Path("/", name).exists():
            _show(Path("/", name), _BUILT / name, read_only=True)
    disk = OWN / host.name
    shutil.rmtree(disk / "tmp", ignore_errors=True)
    for name, mode in (("tmp", 0o1777), ("var/tmp", 0o1777), ("var/log", 0o755), ("users", 0o755)):
        (disk / name).mkdir(parents=True, exist_ok=True)
        (disk / name).chmod(mode)
    for name in ("tmp", "var", HOMES.name):
        _show(disk / name, _BUILT / name)
    _show(disk, _BUILT / DISK.name)
    _show(SHARED, _BUILT / SHARED.name)
    for name, kind in (("proc", "proc"), ("sys", "sysfs"), ("run", "tmpfs"), ("dev", "tmpfs")):
        (_BUILT / name).mkdir()
        kernel.mount(kind, _BUILT / name, kind, options="mode=755" if kind == "tmpfs" else "")
    _devices(_BUILT / "dev", host.devices)
    _groups(_BUILT / "sys/fs/cgroup", groups)
    (_BUILT / "run/sshd").mkdir()
    _own_names(_BUILT, _BUILT / "run/etc", host.name, host.login_shell)
    identity = _BUILT / "run/boot_id"
    identity.write_text(boot + "\n")
    kernel.bind(identity, _BUILT / "proc/sys/kernel/random/boot_id")
    _homes(_BUILT / HOMES.name, folder, host)
    shutil.copy(folder.keys / host.name, _BUILT / "run/host_key")
    kernel.change_root(_BUILT)


def _show(source: Path, target: Path, *, read_only: bool = False) -> None:
    """Show something of the old root in the new one: a link as a link, a folder or file as itself."""
    if source.is_symlink():
        target.symlink_to(os.readlink(source))
        return
    if source.is_dir():
        target.mkdir(parents=True, exist_ok=True)
    else:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.touch()
    kernel.bind(source, target)
    if read_only:
        with suppress(PermissionError):  # without root it is somebody else's anyway
            kernel.make_read_only(target)


def _devices(dev: Path, stand_ins: Iterable[str]) -> None:
    for name in _DEVICES:
        _show(Path("/dev", name), dev / name)
    for name in ("pts", "shm"):
        (dev / name).mkdir()
    kernel.mount("devpts", dev / "pts", "devpts", options="newinstance,ptmxmode=666,mode=620")
    kernel.mount("tmpfs", dev / "shm", "tmpfs", options="mode=1777")
    (dev / "ptmx").symlink_to("pts/ptmx")
    for name, target in (("fd", ""), ("stdin", "/0"), ("stdout", "/1"), ("stderr", "/2")):
        (dev / name).symlink_to(f"/proc/self/fd{target}")
    for name in stand_ins:
        (dev / name).parent.mkdir(exist_ok=True)
        (dev / name).write_text("")
        (dev / name).chmod(0o666)


def _groups(root: Path, groups: Mapping[Path, Path]) -> None:
    whole = groups.get(Path("."))
    if whole is not None:  # version 2 alone
        kernel.bind(whole, root)
    elif groups:
        kernel.mount("tmpfs", root, "tmpfs", options="mode=755")
        for place, group in groups.items():
            _show(group, root / place)


def _own_names(root: Path, kept: Path, name: str, shell: str) -> None:
    """People, groups and names of hosts, over the machine's own in /etc; what isn't there can't be covered, and isn't needed."""
    kept.mkdir(parents=True)
    known = [line for line in _lines("/etc/passwd") if line.split(":")[0] not in PEOPLE]
    people = [f"{each}:x:{number}:{number}::{HOMES}/{each}:{shell}" for each, number in PEOPLE.items()]
    teams = [line for line in _lines("/etc/group") if line.split(":")[0] not in PEOPLE]
    addresses = [f"{HEAD_ADDRESS} {HEAD}", *(f"{each.address} {each.name}" for each in HOSTS)]
    files = {
        "passwd": [*people, *known],
        "group": [*(f"{each}:x:{number}:" for each, number in PEOPLE.items()), *teams],
        "shadow": [f"{line.split(':')[0]}:*:19000:0:99999:7:::" for line in (*people, *known)],
        "hosts": ["127.0.0.1 localhost", "::1 localhost", *addresses],
        "hostname": [name],
    }
    for file, lines in files.items():
        if os.access(f"/etc/{file}", os.F_OK):
            (kept / file).write_text("\n".join(lines) + "\n")
            (kept / file).chmod(0o600 if file == "shadow" else 0o644)
            kernel.bind(kept / file, root / "etc" / file)


def _lines(path: str) -> list[str]:
    try:
        return Path(path).read_text(errors="replace").splitlines()
    except OSError:
        return []


def _homes(homes: Path, folder: Folder, host: HostKind | None) -> None:
    """A home for each of the people, where there is none: with their key, and the hosts' keys as known."""
    for name, number in PEOPLE.items():
        home = homes / name
        if home.exists():
            continue
        ssh = home / ".ssh"
        ssh.mkdir(parents=True)
        shutil.copy(folder.keys / "id", ssh / "id_ed25519")
        shutil.copy(folder.keys / "id.pub", ssh / "authorized_keys")
        (ssh / "known_hosts").write_text((folder.keys / "known_hosts").read_text())
        (ssh / "config").write_text(
            "".join(f"Host {each.name}\n  HostName {each.address}\n" for each in HOSTS)
            + "Host *\n  KexAlgorithms curve25519-sha256\n"
        )
        if host is not None and host.greets:
            (home / ".bashrc").write_text(f"echo '{_GREETING}'\necho 'Ask Tove.' >&2\n")
        if host is None:  # the head
            (home / FILE).parent.mkdir(parents=True)
            (home / FILE).write_text(site_text())
        for path in (home, *home.rglob("*")):
            path.chmod(0o700 if path.is_dir() else 0o600)
            with suppress(OSError):  # without root all is ours
                os.chown(path, number, number)

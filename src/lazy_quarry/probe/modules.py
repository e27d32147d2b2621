"""Modules of this machine: where it has a ``module`` command, what that offers, and how a job gets at it."""

import glob
import os
import re
import subprocess
from collections.abc import Mapping

from lazy_quarry.core.site import Software
from lazy_quarry.run.node.module_loading import FIND_MODULE

_FUNCTION = "BASH_FUNC_module%%"
_PATIENCE_S = 15


def catalogue(environment: Mapping[str, str]) -> tuple[Software, ...]:
    """The modules on offer, in their order; none where there is no ``module`` command."""
    likely = _FUNCTION in environment or "MODULEPATH" in environment or glob.glob("/etc/profile.d/*mod*.sh")
    if not likely:
        return ()
    try:
        run = subprocess.run(
            ["bash", "-c", f"{FIND_MODULE} || exit 1; module -t avail 2>&1"],
            env=dict(environment),
            capture_output=True,
            text=True,
            errors="replace",
            stdin=subprocess.DEVNULL,
            timeout=_PATIENCE_S,
        )
    except (OSError, subprocess.TimeoutExpired):
        return ()
    if run.returncode != 0:
        return ()
    names = (re.sub(r"\s*[(<].*$", "", line).strip() for line in run.stdout.splitlines())
    return tuple(
        Software(name) for name in dict.fromkeys(names) if name and not name.endswith((":", "/")) and " " not in name
    )


def needed(environment: Mapping[str, str]) -> dict[str, str]:
    """The submitter's variables that the ``module`` command needs: itself, and those that its text names."""
    function = environment.get(_FUNCTION, "")
    names = set(re.findall(r"[A-Za-z_]\w*", function)) | {_FUNCTION, "MODULEPATH", "MODULESHOME"}
    return {name: value for name, value in environment.items() if name in names}


def of_this_machine() -> tuple[Software, ...]:
    """The modules that this process's own environment offers."""
    return catalogue(os.environ)

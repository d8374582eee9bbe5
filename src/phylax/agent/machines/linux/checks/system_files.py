"""Files of the system that are not as their packages brought them: dpkg(1) --verify."""

from __future__ import annotations

import errno
import os
from datetime import UTC, datetime

from phylax.agent.machines.linux.apt import DPKG
from phylax.agent.machines.linux.tools import run
from phylax.agent.machines.upkeep import Watch
from phylax.core.checks.findings import Checked, Finding, Severity, looked

_HOUR = 3600.0
_MOST = 4 * 2**20


def system_files(watch: Watch, root: str = "/") -> Checked:
    """What was altered or is missing. What people may alter, configuration, is left out. OSError
    where there is no dpkg, or it does not answer."""
    started = datetime.now(UTC)
    if not os.path.exists(DPKG):
        raise FileNotFoundError(errno.ENOENT, "there is no dpkg here", DPKG)
    where = [] if root == "/" else [f"--root={root}"]
    said = run([DPKG, *where, "--verify"], seconds=_HOUR, breathe=watch, most=_MOST)
    if said.code not in (0, 1):
        raise OSError(errno.EIO, f"dpkg ended with {said.code}", DPKG)
    findings = []
    for line in said.text.splitlines():
        fields = line.split(None, 2)
        if not line.startswith(("?", "missing")) or len(fields) < 2 or fields[1] == "c":
            continue
        path = line.split(None, 1)[1].strip()
        missing = line.startswith("missing")
        what = "A file of the system is missing" if missing else "A file of the system was altered"
        findings.append(
            Finding(severity=Severity.WARNING, what=what, where=path[:500], evidence=fields[0])
        )
    return looked("system-files", "", started, findings)

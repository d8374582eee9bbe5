"""Whether a program is open: by its process's name, or by the lock it keeps in its profile.

A wrapper or a container may give a browser another name; its lock it keeps all the same.
"""

from __future__ import annotations

import os
import re
import stat
import sys

import psutil

from phylax.agent.machines import InUse
from phylax.agent.survey.places import Place

_HOLDER = re.compile(r"[-+:]([0-9]{1,10})$")
"""A lock that is a link names its holder at the end of its target: host-123, address:+123."""


def open_programs(place: Place, in_use: InUse) -> frozenset[str]:
    """The programs that hold a place open now; those known by a lock alone by the lock's name."""
    open_now = place.programs & in_use.programs
    if open_now or not place.locks:
        return open_now
    return frozenset(os.path.basename(lock) for lock in place.locks if _is_held(lock, in_use))


def _runs_for(process: int, uid: int) -> bool:
    """Whether a process is there, and the one's whose lock it is said to hold."""
    try:
        return sys.platform == "win32" or os.stat(f"/proc/{process}").st_uid == uid
    except OSError:
        # where there is no such listing, that it is there must do
        return not os.path.isdir("/proc/self") and psutil.pid_exists(process)


def _is_held(lock: str, in_use: InUse) -> bool:
    """Whether somebody holds a lock: a link to a living process, or a file open or locked."""
    try:
        st = os.lstat(lock)
        if stat.S_ISLNK(st.st_mode):
            holder = _HOLDER.search(os.readlink(lock))
            return holder is not None and _runs_for(int(holder[1]), st.st_uid)
    except OSError:
        return False
    return in_use.holds(st)

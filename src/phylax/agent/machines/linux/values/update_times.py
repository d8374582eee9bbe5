"""When a Debian system installs updates: a drop-in of our own on its package manager's timers.

`systemd.timer(5)`: an empty `OnCalendar=` takes back what stands before; a time that was missed
must not run at the morning's start, hence `Persistent=false`. `systemd.unit(5)`: drop-ins of all
folders are read by name, whichever folder they lie in, and the last word counts.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import Final

from phylax.agent.machines.linux.startup import ini_files
from phylax.agent.tuning.pieces import read
from phylax.core.tuning.pieces import NOTHING, File, Folder, Nothing, Piece
from phylax.core.tuning.verdicts import Seen

SETTING: Final = "updates"
BY_ITSELF = "by-itself"
TIMERS = ("apt-daily.timer", "apt-daily-upgrade.timer")
_DROP_IN: Final = "90-phylax.conf"
_UNITS = ("usr/lib/systemd/system", "lib/systemd/system", "etc/systemd/system")
_DROP_INS = ("usr/lib/systemd/system", "run/systemd/system", "etc/systemd/system")
_DAYS = {
    "monday-noon": "Mon", "tuesday-noon": "Tue", "wednesday-noon": "Wed", "thursday-noon": "Thu",
    "friday-noon": "Fri",
}  # fmt: skip
_TIMES = {"apt-daily.timer": "12:10", "apt-daily-upgrade.timer": "12:30"}
"""The lists come twenty minutes before what is installed by them."""


def text(timer: str, value: str) -> str:
    """What our drop-in of a timer says for a weekly time."""
    return (
        "# Written by Phylax; taken away when it is put back.\n"
        f"[Timer]\nOnCalendar=\nOnCalendar={_DAYS[value]} {_TIMES[timer]}\n"
        "RandomizedDelaySec=0\nPersistent=false\n"
    )


def values(root: str) -> Iterator[Seen]:
    """The setting, where the system has such timers."""
    there = [timer for timer in TIMERS if _path_of(root, timer)]
    if not there:
        return
    others = [path for timer in there for path in _others(root, timer)]
    if others:
        yield Seen(key=SETTING, unread=f"set by an administrator's own file: {others[0]}")
        return
    said = {_said(root, timer) for timer in there}
    if len(said) != 1:
        yield Seen(key=SETTING, unread="its timers go by different times")
        return
    yield Seen(key=SETTING, value=said.pop(), writable=os.access(_top(root), os.W_OK))


def pieces(root: str, value: str) -> tuple[Piece, ...]:
    """What becomes of our drop-ins; OSError where somebody else's would count."""
    made: list[Piece] = []
    for timer in TIMERS:
        if not _path_of(root, timer):
            continue
        folder = f"etc/systemd/system/{timer}.d"
        path = f"{folder}/{_DROP_IN}"
        before = read(root, path) if os.path.isdir(os.path.join(root, folder)) else NOTHING
        after = NOTHING if value == BY_ITSELF else File.of(text(timer, value).encode())
        if isinstance(after, File) and not os.path.isdir(os.path.join(root, folder)):
            made.append(Piece(path=folder, before=NOTHING, after=Folder()))
        if before != after and not (isinstance(before, Nothing) and isinstance(after, Nothing)):
            made.append(Piece(path=path, before=before, after=after))
    return tuple(made)


def _top(root: str) -> str:
    return os.path.join(root, "etc/systemd/system")


def _path_of(root: str, timer: str) -> str:
    """Where a timer's unit lies; empty where there is none."""
    for folder in _UNITS:
        path = os.path.join(root, folder, timer)
        if os.path.isfile(path):
            return path
    return ""


def _others(root: str, timer: str) -> list[str]:
    """Other people's files that say a time, which would count beside ours or before it."""
    others = []
    if os.path.isfile(os.path.join(_top(root), timer)):
        others.append(f"/etc/systemd/system/{timer}")
    for folder in _DROP_INS:
        on_disk = os.path.join(root, folder, f"{timer}.d")
        try:
            names = sorted(os.listdir(on_disk))
        except OSError:
            continue
        for name in names:
            says = ini_files.parse(ini_files.read_text(os.path.join(on_disk, name)) or "")
            if (
                name.endswith(".conf")
                and name != _DROP_IN
                and "OnCalendar" in says.get("Timer", {})
            ):
                others.append(f"/{folder}/{timer}.d/{name}")
    return others


def _said(root: str, timer: str) -> str | None:
    """The choice that our drop-in says, word for word; by itself where there is none. None: it
    says something that is none of them."""
    written = ini_files.read_text(os.path.join(_top(root), f"{timer}.d", _DROP_IN))
    if written is None:
        return BY_ITSELF
    return next((value for value in _DAYS if written == text(timer, value)), None)

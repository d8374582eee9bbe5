"""What a start of this machine cost: processor seconds of its first minutes, by control group.

The kernel counts for each control group what its processes took, also those that have ended: cgroup
v2 (`cpu.stat`) and v1 (`cpuacct.usage`), Documentation/admin-guide/cgroup-v2.rst and
cgroup-v1/cpuacct.rst. Session programs have groups of their own by the XDG naming of systemd
(`app-NAME@autostart.service`, `app-DESKTOP-NAME-PID.scope`).
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, timedelta
from glob import glob

from phylax.core.tuning.programs import Program
from phylax.core.tuning.starts import MOST_NAMED, BootCost
from phylax.core.tuning.trials import LeftOut

FROM, UNTIL = 600.0, 660.0
"""Seconds after the start between which it is measured: later, work has begun to count."""
SIGNED_IN_WITHIN = 180.0
"""Seconds; who signs in later leaves the session's programs out of the first minutes."""
_UPDATED_BEFORE = timedelta(days=1)
_GROUPS = "sys/fs/cgroup"
_V1 = ("cpuacct", "cpu,cpuacct")
_AUTOSTART = re.compile(r"app-(.+)@autostart\.service")
_SCOPE = re.compile(r"app-(?:[^-]+-)?(.+)-[0-9]+\.scope")
_USER_MANAGER = re.compile(r"user@[0-9]+\.service")
_ESCAPED = re.compile(r"\\x([0-9a-f]{2})")
_USELESS_COLUMNS = (3, 4, 8, 9)
"""Of /proc/stat: idle, waiting for disks, and guests, whose time is counted as others' already."""


def boot(root: str = "/") -> str:
    """The kernel's name of the start under way."""
    return _text(root, "proc/sys/kernel/random/boot_id").strip()


def is_time(uptime: float) -> bool:
    return FROM <= uptime < UNTIL


def cost(root: str, programs: Sequence[Program], now: datetime, uptime: float) -> BootCost:
    """What this start has cost until now. OSError or ValueError where the kernel does not say."""
    began = now - timedelta(seconds=uptime)
    owner = _owners(programs)
    costs: dict[str, float] = {}
    for name, is_of_person, seconds in _groups(root):
        for key in _starter_keys(name, is_of_person):
            if key in owner:
                program = owner[key]
                costs[program] = costs.get(program, 0.0) + seconds
                break
    attributed = dict(sorted(costs.items(), key=lambda cost: -cost[1])[:MOST_NAMED])
    rest = max(0.0, _busy(root) - sum(attributed.values()))
    return BootCost(
        boot=boot(root), at=began, programs=attributed, unattributed=rest,
        left_out=_left_out(root, began),
    )  # fmt: skip


def _owners(programs: Sequence[Program]) -> dict[str, str]:
    """The program of each starter; of what a timer or socket starts, the service of that name."""
    owner: dict[str, str] = {}
    for program in programs:
        for starter in program.starters:
            # whoever's it is: "sign-in:PERSON:NAME" is known by its name here
            kind, _, rest = starter.key.partition(":")
            if kind == "sign-in":
                owner.setdefault(f"sign-in:{rest.partition(':')[2]}", program.key)
            elif kind == "unit":
                stem = starter.key.rpartition(".")[0]
                owner.setdefault(f"{stem}.service", program.key)
    return owner


def _starter_keys(group: str, is_of_person: bool) -> Iterator[str]:
    """The starters that a group may belong to, the likeliest first."""
    name = _ESCAPED.sub(lambda code: chr(int(code[1], 16)), group)
    if is_of_person:
        for pattern in (_AUTOSTART, _SCOPE):
            if of := pattern.fullmatch(name):
                yield f"sign-in:{of[1]}.desktop"
    scope = "user" if is_of_person else "system"
    yield f"unit:{scope}:{name}"
    if "@" in name:
        yield f"unit:{scope}:{name.partition('@')[0]}@.service"


def _groups(root: str) -> Iterator[tuple[str, bool, float]]:
    """(name, whether it is of a person's session, seconds) of each unit's control group."""
    top = os.path.join(root, _GROUPS)
    if os.path.exists(os.path.join(top, "cgroup.controllers")):
        yield from _below(top, _seconds_v2, is_of_person=False)
        return
    for below in _V1:
        path = os.path.join(top, below)
        if os.path.isdir(path):
            yield from _below(path, _seconds_v1, is_of_person=False)
            return
    raise ValueError("this kernel counts no processor time by control group")


def _below(
    path: str, seconds: Callable[[str], float], *, is_of_person: bool
) -> Iterator[tuple[str, bool, float]]:
    with os.scandir(path) as entries:
        names = sorted(entry.name for entry in entries if entry.is_dir(follow_symlinks=False))
    for name in names:
        folder = os.path.join(path, name)
        if _USER_MANAGER.fullmatch(name):
            yield from _below(folder, seconds, is_of_person=True)
        elif name.endswith((".service", ".scope")):
            try:
                yield name, is_of_person, seconds(folder)
            except (OSError, ValueError):
                continue  # it has just ended
        elif name.endswith(".slice"):
            yield from _below(folder, seconds, is_of_person=is_of_person)


def _seconds_v2(folder: str) -> float:
    with open(os.path.join(folder, "cpu.stat"), encoding="ascii") as file:
        for line in file:
            word, _, number = line.partition(" ")
            if word == "usage_usec":
                return int(number) / 1e6
    raise ValueError("no usage")


def _seconds_v1(folder: str) -> float:
    with open(os.path.join(folder, "cpuacct.usage"), encoding="ascii") as file:
        return int(file.read()) / 1e9


def _busy(root: str) -> float:
    """Seconds for which processors worked since the start."""
    columns = _text(root, "proc/stat").partition("\n")[0].split()[1:]
    ticks = sum(int(n) for place, n in enumerate(columns) if place not in _USELESS_COLUMNS)
    return ticks / os.sysconf("SC_CLK_TCK")


def _left_out(root: str, began: datetime) -> LeftOut | None:
    try:
        updated = os.stat(os.path.join(root, "var/lib/dpkg/status")).st_mtime
        if updated > (began - _UPDATED_BEFORE).timestamp():
            return LeftOut.AFTER_UPDATES
    except OSError:
        pass
    if _is_on_battery(root):
        return LeftOut.ON_BATTERY
    signed_in = [
        os.stat(path).st_ctime
        for path in glob(os.path.join(root, "run/user/[0-9]*"))
        if int(os.path.basename(path)) >= 1000
    ]
    if signed_in and min(signed_in) - began.timestamp() > SIGNED_IN_WITHIN:
        return LeftOut.WAITED
    return None


def _is_on_battery(root: str) -> bool:
    """Whether it has a way to be plugged in, and is not."""
    plugged = []
    for supply in glob(os.path.join(root, "sys/class/power_supply/*")):
        if _text(supply, "type", "").strip() == "Mains":
            plugged.append(_text(supply, "online", "").strip() == "1")
    return bool(plugged) and not any(plugged)


def _text(root: str, below: str, otherwise: str | None = None) -> str:
    try:
        with open(os.path.join(root, below), encoding="utf-8", errors="replace") as file:
            return file.read()
    except OSError:
        if otherwise is None:
            raise
        return otherwise

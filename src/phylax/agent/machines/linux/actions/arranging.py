"""Arranging volumes by what their disks are: e4defrag(8) where they spin, else fstrim(8).

Which it is, is asked right before, while it goes on and once more afterwards: what was judged by
facts that are others by then was judged wrongly.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Final

from phylax.agent.machines.linux.checks import file_system
from phylax.agent.machines.linux.checks.disk_health import SMARTCTL
from phylax.agent.machines.linux.checks.file_system import CouldNotLookError
from phylax.agent.machines.linux.checks.fragmentation import (
    copies_what_it_rewrites,
    facts_of,
    pieces_on,
)
from phylax.agent.machines.linux.mounts import Mount
from phylax.agent.machines.linux.tools import run
from phylax.agent.machines.upkeep import Watch
from phylax.core.actions import ActEnd, ActionPart, ArrangeDisks
from phylax.core.ground.quantities import count, show_size
from phylax.core.inventory.disks import Judgement, Treatment, judged

E4DEFRAG: Final = "/usr/sbin/e4defrag"
FSTRIM: Final = "/usr/sbin/fstrim"
_HOURS = 12 * 3600.0
_TRIMMED = re.compile(r"\((\d+) bytes\) trimmed")
_WORTH = 1.05
"""Pieces for each file up to which there is nothing to gather."""


class OtherwiseError(Exception):
    """The facts about the disk are others than those by which the treatment was chosen."""


def arrange(
    action: ArrangeDisks,
    mounts: Sequence[tuple[Mount, str]],
    watch: Watch,
    sys: str = "/sys",
    tool: str = SMARTCTL,
) -> Iterator[ActionPart]:
    """Each volume, with the name that people know it by; one that cannot be costs only itself."""
    wanted = [(mount, shown) for mount, shown in mounts if shown in (action.volumes or (shown,))]
    known = {shown for _, shown in wanted}
    for volume in action.volumes:
        if volume not in known:
            yield ActionPart(target=volume, end=ActEnd.REFUSED, why="there is no such volume here")
    for number, (mount, shown) in enumerate(wanted):
        watch(number, len(wanted))
        try:
            yield _arrange_one(mount, shown, watch, sys, tool)
        except OtherwiseError:
            why = "what the system says of the disk changed meanwhile: its kind is not certain"
            yield ActionPart(target=shown, end=ActEnd.FAILED, why=why)
        except OSError as failure:
            yield ActionPart(
                target=shown, end=ActEnd.FAILED, why=(failure.strerror or "fails")[:400]
            )


def _judgement(mount: Mount, sys: str, tool: str) -> Judgement:
    facts = facts_of(mount, sys, tool)
    return judged(facts, mount.file_system, snapshots=copies_what_it_rewrites(mount, sys))


def _arrange_one(mount: Mount, shown: str, watch: Watch, sys: str, tool: str) -> ActionPart:
    if why := _why_not(mount, shown, sys):
        return ActionPart(target=shown, end=ActEnd.REFUSED, why=why)
    judgement = _judgement(mount, sys, tool)
    if judgement.treatment is Treatment.NONE:
        return ActionPart(target=shown, end=ActEnd.REFUSED, why=judgement.why)

    def breathe() -> None:
        watch()
        # the disk itself is asked before and after: asking it each second would keep it awake
        if _judgement(mount, sys, "").treatment not in (judgement.treatment, Treatment.NONE):
            raise OtherwiseError

    if judgement.treatment is Treatment.GIVE_BACK:
        part = _give_back(mount, shown, breathe)
    else:
        part = _gather(mount, shown, watch, breathe)
    if _judgement(mount, sys, tool) != judgement:
        raise OtherwiseError
    return part


def _why_not(mount: Mount, shown: str, sys: str) -> str:
    """What stands in the way of touching a volume; empty where nothing does."""
    if "ro" in mount.options:
        return "it is mounted to be read only"
    try:
        findings = file_system.of_mounted(mount, shown, sys)
    except CouldNotLookError:
        return ""
    return f"findings first: {findings[0].what}" if findings else ""


def _give_back(mount: Mount, shown: str, breathe: Callable[[], None]) -> ActionPart:
    said = run([FSTRIM, "-v", mount.path], seconds=_HOURS, breathe=breathe)
    match = _TRIMMED.search(said.text)
    if said.code or match is None:
        words = " ".join(said.text.split())[-300:]
        return ActionPart(
            target=shown, end=ActEnd.FAILED, why=words or f"it ended with {said.code}"
        )
    given = f"{show_size(int(match[1]))} of free blocks given back"
    return ActionPart(target=shown, end=ActEnd.DONE, after=given)


def _gather(mount: Mount, shown: str, watch: Watch, breathe: Callable[[], None]) -> ActionPart:
    if mount.file_system != "ext4":
        why = f"nothing here gathers pieces on {mount.file_system} while it is in use"
        return ActionPart(target=shown, end=ActEnd.REFUSED, why=why)
    looked_at, before = pieces_on(mount.path, watch)
    if not looked_at or before / looked_at <= _WORTH:
        why = f"its files lie whole: {count(before, 'piece')} of {count(looked_at, 'file')}"
        return ActionPart(target=shown, end=ActEnd.NOTHING, why=why)
    said = run([E4DEFRAG, mount.path], seconds=_HOURS, breathe=breathe, most=2**26)
    _, after = pieces_on(mount.path, watch)
    words = f"{count(before, 'piece')} of {count(looked_at, 'file')}"
    if after >= before:
        # what it ends with proves nothing
        why = f"it did not help; the tool ended with {said.code}"
        return ActionPart(target=shown, end=ActEnd.FAILED, before=words, after=words, why=why)
    return ActionPart(target=shown, end=ActEnd.DONE, before=words, after=count(after, "piece"))

"""The actions, each with its parameters and what a person at the machine will notice of it."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from phylax.core.ground.text import Text
from phylax.core.ground.values import Demand
from phylax.core.inventory.programs import MOST_ALONG, Along

_Backup = Annotated[int, Field(ge=0, le=36_500)]
"""Days since the last backup, as the client says."""


class _Action(Demand):
    touches: ClassVar[bool] = True
    """Whether it changes anything on the machine."""
    disk_bound: ClassVar[bool] = False
    """Whether a failing disk forbids it."""
    step: ClassVar[str] = ""
    """The routine's step that it is, by which findings of checks stop it."""
    title: ClassVar[str]
    notice: ClassVar[str]


class RepairFileSystem(_Action):
    """Have a volume repaired when the machine starts next; nothing is repaired while it is used."""

    action: Literal["repair-file-system"] = "repair-file-system"
    volume: Text
    backup_days: _Backup
    disk_bound = True
    title = "Repair a file system at the next start"
    notice = (
        "The next start takes longer, up to hours. Parts of damaged files can be lost, and where "
        "the system may not decide alone, the machine waits for somebody at it."
    )


class ArrangeDisks(_Action):
    """Give volumes the treatment that their disks allow: the agent decides which, by the facts."""

    action: Literal["arrange-disks"] = "arrange-disks"
    volumes: Annotated[tuple[Text, ...], Field(max_length=200)] = Field(
        (), description="Which; none: all that are looked after"
    )
    disk_bound = True
    step = "arrange"
    title = "Arrange disks"
    notice = "The machine is slower while it works. It can be called off at any time."


class InstallUpdates(_Action):
    """Install what is missing. Nothing is removed by the way, nothing of another origin comes."""

    action: Literal["install-updates"] = "install-updates"
    only_security: bool = False
    names: Annotated[tuple[Text, ...], Field(max_length=500)] = Field(
        (), description="Only these; none: all that may be installed unattended"
    )
    disk_bound = True
    step = "update"
    title = "Install updates"
    notice = "Programs that are open may ask to be started again."


class TryRemoval(_Action):
    """Find out what removing a program would take along, without doing it."""

    action: Literal["try-removal"] = "try-removal"
    program: Text
    version: Text
    touches = False
    title = "Try what removing a program would take along"
    notice = "Nothing."


class RemoveProgram(_Action):
    """Remove one version of one program, and exactly what was agreed to go with it."""

    action: Literal["remove-program"] = "remove-program"
    program: Text
    version: Text
    along: Annotated[tuple[Along, ...], Field(max_length=MOST_ALONG)] = Field(
        (), description="What else goes, as the trial said; anything more and nothing is removed"
    )
    not_reinstallable: bool = Field(
        False, description="A yes to that this version cannot be had again"
    )
    backup_days: _Backup
    title = "Remove a program"
    notice = "The program is gone. Its own files of people stay."


class ClearNameCache(_Action):
    """Let the machine forget how names of other machines resolved."""

    action: Literal["clear-name-cache"] = "clear-name-cache"
    title = "Clear the name cache"
    notice = "The first visit to each site takes a moment longer."


class Restart(_Action):
    """Restart the machine: people are warned, may postpone, and what must not end is waited for."""

    action: Literal["restart"] = "restart"
    warn_minutes: int = Field(10, ge=0, le=120, description="How long before people are told")
    postponements: int = Field(2, ge=0, le=10, description="How often people may put it off")
    postpone_minutes: int = Field(15, ge=1, le=240, description="By how long each time")
    step = "restart"
    title = "Restart"
    notice = "Everybody is warned first and can put it off."

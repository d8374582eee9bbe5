"""The rights of each kind of privileged work, as properties of systemd units (systemd.exec(5)).

The agent's own unit has the rights that surveys and cleaning need. What needs more runs beside it,
for as long as it takes, with what that kind of work needs and no more.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Final


class Rights(StrEnum):
    """A kind of privileged work."""

    SETTINGS = "settings"
    """Writes below /etc and to the kernel's values."""
    DISKS = "disks"
    """Asks and arranges block devices and file systems."""
    PACKAGES = "packages"
    """Runs the package manager, whose maintainer scripts may do anything."""


_BEHIND_EVERYTHING = ("Nice=10", "IOSchedulingClass=best-effort", "IOSchedulingPriority=7")
_CONFINED = (
    *_BEHIND_EVERYTHING,
    "UMask=0077",
    "NoNewPrivileges=yes",
    "PrivateNetwork=yes",
    "ProtectKernelModules=yes",
    "ProtectClock=yes",
    "ProtectHostname=yes",
    "RestrictNamespaces=yes",
    "RestrictRealtime=yes",
    "RestrictSUIDSGID=yes",
    "LockPersonality=yes",
    "SystemCallArchitectures=native",
    # with the agent gone nobody waits for an answer
    "TimeoutStopSec=30",
)

PROPERTIES: Final[Mapping[Rights, tuple[str, ...]]] = {
    Rights.SETTINGS: (
        *_CONFINED,
        "CapabilityBoundingSet=CAP_DAC_OVERRIDE CAP_FOWNER CAP_CHOWN",
        "ProtectSystem=strict",
        "ReadWritePaths=/etc",
        "ProtectHome=read-only",
        "PrivateDevices=yes",
        "RestrictAddressFamilies=AF_UNIX",
        "MemoryMax=512M",
    ),
    # no bound on memory: to check a large file system takes gigabytes
    Rights.DISKS: (
        *_CONFINED,
        # in one line: of two lines systemd-run(1) takes the last
        "CapabilityBoundingSet=CAP_SYS_ADMIN CAP_SYS_RAWIO CAP_SYS_RESOURCE CAP_DAC_OVERRIDE "
        "CAP_DAC_READ_SEARCH CAP_FOWNER",
        "RestrictAddressFamilies=AF_UNIX",
    ),
    # nothing is taken away: a package that cannot write where it must is left half installed. Who
    # stops the unit tells the program alone, which ends when the package manager has
    Rights.PACKAGES: (
        *_BEHIND_EVERYTHING,
        "KillMode=mixed",
        "TimeoutStopSec=30min",
        "OOMScoreAdjust=-500",
    ),
}
"""By kind of work. Restrictions by mounts are only where nothing is written outside /etc: disks are
arranged file by file wherever they are mounted."""

CHECKS: Final[Mapping[str, Rights]] = {
    "file-system": Rights.DISKS,
    "disk-health": Rights.DISKS,
    "fragmentation": Rights.DISKS,
}
"""Checks that the agent's own rights are not enough for."""

ACTIONS: Final[Mapping[str, Rights]] = {
    "repair-file-system": Rights.DISKS,
    "arrange-disks": Rights.DISKS,
    "install-updates": Rights.PACKAGES,
    "remove-program": Rights.PACKAGES,
}

THINGS: Final[Mapping[str, Rights]] = {"old-kernels": Rights.PACKAGES}
"""Sources of things whose removal is not by the agent's own rights."""

"""Which units and entries are guarded, by what they themselves say of their place in the system.

By facts, not by names of makers: what has to be there before the system is up, what network,
screen, sound, input, storage, security or accessibility hang on, what other programs reach under a
name of the system's own. What cannot be told is guarded.
"""

from __future__ import annotations

import re

from phylax.agent.machines.linux.startup.sign_in import Entry
from phylax.agent.machines.linux.startup.units import Unit

_EARLY = frozenset(
    {"sysinit.target", "basic.target", "local-fs.target", "local-fs-pre.target",
     "cryptsetup.target", "swap.target", "initrd.target", "initrd-root-fs.target",
     "emergency.target", "rescue.target", "getty.target", "time-sync.target", "time-set.target"}
)  # fmt: skip
_OF_THE_SYSTEM = {
    "network.target": "network", "network-pre.target": "network",
    "network-online.target": "network", "nss-lookup.target": "network",
    "remote-fs.target": "storage", "remote-fs-pre.target": "storage",
    "sound.target": "sound", "bluetooth.target": "input", "printer.target": "printing",
    "smartcard.target": "sign-in", "nss-user-lookup.target": "sign-in",
    "display-manager.service": "the screen", "graphical-session-pre.target": "the screen",
}  # fmt: skip
"""Well-known units (systemd.special(7)) and what hangs on them."""
_SYSTEM_NAMES = re.compile(r"org\.(freedesktop|a11y)\.")
_EARLY_PHASES = re.compile(r"(?i)initialization|displayserver|windowmanager|panel|desktop")
_OURS = "phylax"


def why_unit(unit: Unit) -> str:
    """Why a unit is guarded; empty where nothing says so."""
    if unit.name.startswith(_OURS):
        return "it is this agent"
    if not unit.path or not unit.says:
        return "what it is cannot be told"
    if unit.words("Unit", "DefaultDependencies")[-1:] in (["no"], ["false"]):
        return "it starts before the system is up"
    wanting = {*unit.words("Install", "WantedBy"), *unit.words("Install", "RequiredBy")}
    wanting |= {link.rpartition("/")[0].rpartition("/")[2].rpartition(".")[0]
                for link in unit.pulled_in}  # fmt: skip
    if early := sorted(wanting & _EARLY):
        return f"{early[0]} starts it"
    if any(name.endswith(".device") for name in wanting):
        return "it serves a device"
    before = {*unit.words("Unit", "Before"), *unit.words("Install", "Alias"), *wanting}
    for name in sorted(before):
        if name in _OF_THE_SYSTEM:
            return f"{_OF_THE_SYSTEM[name]} may hang on it"
        if name in _EARLY:
            return f"it has to be there before {name}"
    bus = unit.says_once("Service", "BusName")
    if _SYSTEM_NAMES.match(bus):
        return f"others reach it as {bus}"
    return ""


def why_entry(entry: Entry) -> str:
    """Why an entry that starts something at sign-in is guarded."""
    if _OURS in entry.name.lower():
        return "it is this agent"
    if not entry.program and not entry.says_once("Hidden"):
        return "what it starts cannot be told"
    for section in entry.says.values():
        for key, values in section.items():
            # desktops name the stage of a session at which an entry starts
            if key.endswith("-Phase") and any(_EARLY_PHASES.search(value) for value in values):
                return "a person's session is built by it"
    words = f"{entry.says_once('Exec')} {entry.says_once('Categories')}".lower()
    if "at-spi" in words or "accessibility" in words:
        return "accessibility"
    return ""

"""What Windows says of programs, drivers and what is built in: the registry and the firmware.

All else is looked at and done by hand: its interfaces are not to be had where this was tried.
"""

from __future__ import annotations

import ctypes
import errno
import re
import sys
from collections.abc import Iterator
from datetime import UTC, date, datetime

from phylax.agent.machines.windows import keys
from phylax.core.checks.findings import Checked, could_not_look, looked
from phylax.core.ground.machines import MachineFacts
from phylax.core.inventory import DriversListed, HardwareListed, Inventory, ProgramsListed
from phylax.core.inventory.drivers import MOST_DRIVERS, Driver
from phylax.core.inventory.programs import MOST_INSTALLED, InstalledProgram, Removal, of_trials
from phylax.core.inventory.smbios import identity, memory

assert sys.platform == "win32"

_UNINSTALL = r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"
_CLASSES = r"SYSTEM\CurrentControlSet\Control\Class"
_TRIAL = re.compile(r"\b(trial|evaluation|demo)\b", re.IGNORECASE)
_RSMB = 0x52534D42
_HEADER = 8
_BUILD_OF_11 = 22_000
_MOST_TABLES = 4 * 2**20
_BY_HAND = "its own remover asks questions"


def check(facts: MachineFacts, kind: str) -> Iterator[Checked | Inventory]:
    """OSError where it is looked at by hand."""
    started = datetime.now(UTC)
    match kind:
        case "programs":
            programs = tuple(_programs())[:MOST_INSTALLED]
            yield ProgramsListed(taken_at=started, programs=programs)
            yield looked(kind, "", started, of_trials(programs), units=len(programs))
        case "drivers":
            drivers = tuple(_drivers())[:MOST_DRIVERS]
            if not drivers:
                yield could_not_look(kind, "", started, "the registry lists none")
                return
            yield DriversListed(taken_at=started, drivers=drivers)
            yield looked(kind, "", started, [], units=len(drivers))
        case "hardware":
            tables = _tables()
            built_in, itself = memory(tables), identity(tables)
            unread = "" if built_in.slots else "the firmware does not say what memory is built in"
            yield HardwareListed(
                taken_at=started, unread=unread, make=facts.make, model=facts.model,
                serial=itself.serial, processor=itself.processor or _processor(),
                system_version=_system_version(), memory=facts.memory,
                most_memory=built_in.most, slots=built_in.slots,
            )  # fmt: skip
            if unread:
                yield could_not_look(kind, "", started, unread)
            else:
                yield looked(kind, "", started, [], units=len(built_in.slots))
        case _:
            raise OSError(errno.ENOTSUP, "is checked by hand on Windows: see docs/checks.md", kind)


def _programs() -> Iterator[InstalledProgram]:
    """Uninstall entries, for all and of who is signed in, in both views of the registry."""
    seen = set()
    hives = [("HKLM", _UNINSTALL)]
    hives += [("HKU", rf"{sid}\{_UNINSTALL}") for sid in keys.keys_below("HKU", "")]
    for hive, path in hives:
        for view in ("64", "32") if hive == "HKLM" else ("64",):
            for name in keys.keys_below(hive, path, view):
                said = keys.values_of(hive, rf"{path}\{name}", view)
                title = _text(said, "DisplayName")
                version = _text(said, "DisplayVersion")
                if not title or said.get("SystemComponent") == 1 or (title, version) in seen:
                    continue
                seen.add((title, version))
                size = said.get("EstimatedSize")
                yield InstalledProgram(
                    key=f"{view}:{name}"[:500],
                    name=title,
                    version=version,
                    maker=_text(said, "Publisher"),
                    size=size * 1024 if isinstance(size, int) and size >= 0 else None,
                    installed_at=_day(_text(said, "InstallDate")),
                    trial=bool(_TRIAL.search(title)),
                    removal=Removal.NEVER if said.get("NoRemove") == 1 else Removal.BY_HAND,
                    why=_BY_HAND,
                )


def _drivers() -> Iterator[Driver]:
    for device_class in keys.keys_below("HKLM", _CLASSES):
        for number in keys.keys_below("HKLM", rf"{_CLASSES}\{device_class}"):
            if not re.fullmatch(r"\d{4}", number):
                continue
            said = keys.values_of("HKLM", rf"{_CLASSES}\{device_class}\{number}")
            if device := _text(said, "DriverDesc"):
                yield Driver(
                    device=device,
                    driver=_text(said, "InfPath") or device_class,
                    version=_text(said, "DriverVersion"),
                    date=_iso(_text(said, "DriverDate")),
                    maker=_text(said, "ProviderName"),
                )


def _iso(text: str) -> str:
    """The registry writes month-day-year."""
    match = re.fullmatch(r"(\d{1,2})-(\d{1,2})-(\d{4})", text)
    if match is None:
        return ""
    try:
        return date(int(match[3]), int(match[1]), int(match[2])).isoformat()
    except ValueError:
        return ""


def _day(text: str) -> datetime | None:
    """The registry writes yyyymmdd; some installers write what they want."""
    try:
        return datetime.strptime(text, "%Y%m%d").replace(tzinfo=UTC)
    except ValueError:
        return None


def _text(said: dict[str, object], name: str) -> str:
    value = said.get(name)
    text = value if isinstance(value, str) else ""
    return "".join(c for c in text if c.isprintable()).strip()[:300]


def _processor() -> str:
    said = keys.values_of("HKLM", r"HARDWARE\DESCRIPTION\System\CentralProcessor\0", "64")
    return " ".join(_text(said, "ProcessorNameString").split())[:100]


def _system_version() -> str:
    """Name, release and build. The name stayed that of the version before from build 22000 on."""
    said = keys.values_of("HKLM", r"SOFTWARE\Microsoft\Windows NT\CurrentVersion", "64")
    name, build = _text(said, "ProductName"), _text(said, "CurrentBuild")
    if build.isdecimal() and int(build) >= _BUILD_OF_11:
        name = name.replace("Windows 10", "Windows 11")
    parts = (name, _text(said, "DisplayVersion"), f"build {build}" if build else "")
    return " ".join(part for part in parts if part)[:100]


def _tables() -> bytes:
    """What the firmware hands over; empty where it hands over nothing."""
    kernel: ctypes.CDLL = ctypes.WinDLL("kernel32")  # type: ignore[attr-defined,unused-ignore]
    size = int(kernel.GetSystemFirmwareTable(_RSMB, 0, None, 0))
    if not _HEADER < size <= _MOST_TABLES:
        return b""
    buffer = ctypes.create_string_buffer(size)
    if int(kernel.GetSystemFirmwareTable(_RSMB, 0, buffer, size)) != size:
        return b""
    return buffer.raw[_HEADER:]

"""What is built in: memory by the firmware's tables, devices and their drivers by the kernel."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime

from phylax.agent.machines.linux.kernel_files import names_in, text_in
from phylax.core.checks.findings import Checked, Finding, Severity, could_not_look, looked
from phylax.core.inventory import DriversListed, HardwareListed
from phylax.core.inventory.drivers import MOST_DRIVERS, Driver
from phylax.core.inventory.smbios import Identity, Memory, identity, memory

_MOST_TABLES = 4 * 2**20
_CLASSES = {"0x01": "storage", "0x02": "network", "0x03": "graphics", "0x04": "sound",
            "0x0c": "bus", "0x0d": "radio"}  # fmt: skip
_NEEDS_DRIVER = ("0x01", "0x02", "0x03", "0x04", "0x0d")


def hardware(make: str, model: str, total: int, root: str = "/") -> HardwareListed:
    """Memory, its slots, and how often somebody waited for it lately."""
    at = datetime.now(UTC)
    built_in, itself = Memory(None, ()), Identity("", "")
    unread = ""
    try:
        path = os.path.join(root, "sys/firmware/dmi/tables/DMI")
        with open(path, "rb") as file:
            tables = file.read(_MOST_TABLES)
        built_in, itself = memory(tables), identity(tables)
    except OSError as failure:
        unread = f"the firmware does not say: {failure.strerror}"
    return HardwareListed(
        taken_at=at, unread=unread, make=make, model=model, serial=itself.serial,
        processor=itself.processor or _processor(root), system_version=_system_version(root),
        memory=total, most_memory=built_in.most, slots=built_in.slots, pressed=pressed(root),
    )  # fmt: skip


def _processor(root: str) -> str:
    """As the kernel calls the first one."""
    for line in text_in(os.path.join(root, "proc"), "cpuinfo").splitlines():
        name, _, value = line.partition(":")
        if name.strip() == "model name":
            return " ".join(value.split())[:100]
    return ""


def _system_version(root: str) -> str:
    """As the system calls itself (os-release(5))."""
    for line in text_in(os.path.join(root, "etc"), "os-release").splitlines():
        name, _, value = line.partition("=")
        if name == "PRETTY_NAME":
            return value.strip().strip("\"'")[:100]
    return ""


def pressed(root: str = "/") -> float | None:
    """Per cent of the last minutes in which somebody waited for memory (PSI of the kernel)."""
    for line in text_in(os.path.join(root, "proc/pressure"), "memory").splitlines():
        if line.startswith("some "):
            values = dict(part.split("=", 1) for part in line.split()[1:] if "=" in part)
            try:
                share = float(values["avg300"])
            except (KeyError, ValueError):
                return None
            return share if 0 <= share <= 100 else None
    return None


def drivers(root: str = "/") -> Iterator[Checked | DriversListed]:
    """Devices on the buses that a technician plugs into; those that nothing drives are found."""
    started = datetime.now(UTC)
    listed, findings = [], []
    for bus in ("pci", "usb"):
        folder = os.path.join(root, "sys/bus", bus, "devices")
        for name in names_in(folder):
            device = os.path.join(folder, name)
            if bus == "usb" and ":" not in name:
                # a device of that bus is driven by its interfaces
                continue
            driver = os.path.basename(os.path.realpath(os.path.join(device, "driver")))
            driver = driver if os.path.exists(os.path.join(device, "driver")) else ""
            shown, kind = _named(device, bus, name)
            version = text_in(os.path.join(root, "sys/module", driver), "version") if driver else ""
            listed.append(Driver(device=shown, driver=driver, version=version[:200]))
            if not driver and kind in _NEEDS_DRIVER:
                what = f"A device without a driver: {_CLASSES[kind]}"
                findings.append(
                    Finding(severity=Severity.WARNING, what=what, where=shown, evidence=name)
                )
    if not listed:
        yield could_not_look("drivers", "", started, "the kernel lists no devices")
        return
    yield DriversListed(taken_at=started, drivers=tuple(listed[:MOST_DRIVERS]))
    yield looked("drivers", "", started, findings, units=len(listed))


def _named(device: str, bus: str, name: str) -> tuple[str, str]:
    """(as people may know it, its class)."""
    if bus == "usb":
        above = os.path.join(os.path.dirname(device), name.partition(":")[0])
        words = f"{text_in(above, 'manufacturer')} {text_in(above, 'product')}".strip()
        return f"{words or 'device'} (usb {name})"[:300], ""
    kind = text_in(device, "class")[:4]
    maker, model = text_in(device, "vendor"), text_in(device, "device")
    return f"{_CLASSES.get(kind, 'device')} {maker}:{model} (pci {name})"[:300], kind

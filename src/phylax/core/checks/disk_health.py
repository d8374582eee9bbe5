"""What a disk's own counters mean: what is failing, what wears out, what moves.

The counters are what a disk says of itself (ATA SMART attributes, the NVMe health log), in the form
in which smartctl gives them as JSON.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Final

from phylax.core.checks.findings import Finding, Severity

Counters = Mapping[str, int]
"""By their names here: what a disk has counted."""
_ATTRIBUTES: Final = {
    5: "reallocated sectors", 187: "errors that could not be corrected", 197: "pending sectors",
    198: "sectors that cannot be read", 199: "errors on the cable",
}  # fmt: skip
_BITS_OF_FAILURE: Final = 0x08 | 0x10
"""Of smartctl's exit status: the disk says it is failing; a value is below its threshold."""
HOT: Final = 60
"""Degrees Celsius from which a disk is too hot."""
WORN: Final = 90
"""Per cent of its life from which a solid-state disk is to be replaced."""
_MANY = 10


class NoCountersError(Exception):
    """A disk that says nothing of itself."""


def counters(said: Mapping[str, Any]) -> Counters:
    """What a disk has counted. NoCountersError where it says nothing."""
    counted: dict[str, int] = {}
    table = _mapping(said.get("ata_smart_attributes")).get("table")
    for row in table if isinstance(table, list) else ():
        attribute = _mapping(row)
        name = _ATTRIBUTES.get(_whole(attribute.get("id")) or 0)
        raw = _whole(_mapping(attribute.get("raw")).get("value"))
        if name and raw is not None:
            counted[name] = raw
    log = _mapping(said.get("nvme_smart_health_information_log"))
    for field, name in (
        ("critical_warning", "warnings"), ("media_errors", "errors of the medium"),
        ("percentage_used", "per cent of its life used"),
    ):  # fmt: skip
        if (value := _whole(log.get(field))) is not None:
            counted[name] = value
    if (heat := _whole(_mapping(said.get("temperature")).get("current"))) is not None:
        counted["degrees"] = heat
    passed = _mapping(said.get("smart_status")).get("passed")
    status = _whole(_mapping(said.get("smartctl")).get("exit_status")) or 0
    if isinstance(passed, bool):
        counted["failing"] = int(not passed or bool(status & _BITS_OF_FAILURE))
    if not counted.keys() - {"degrees"}:
        raise NoCountersError("the disk says nothing of itself")
    return counted


def findings(counted: Counters, disk: str, before: Counters | None = None) -> list[Finding]:
    """What counters mean, and what their movement since an earlier survey does."""
    return list(_findings(counted, disk, before or {}))


def _findings(counted: Counters, disk: str, before: Counters) -> Iterator[Finding]:
    if counted.get("failing"):
        what = "The disk says that it is failing: save the data first, then replace it"
        yield Finding(severity=Severity.FAILING, what=what, where=disk, evidence=_said(counted))
    if counted.get("warnings"):
        what = "The disk warns of itself: save the data first"
        evidence = f"warnings {counted['warnings']:#x}"
        yield Finding(severity=Severity.FAILING, what=what, where=disk, evidence=evidence)
    for name in ("pending sectors", "sectors that cannot be read", "errors of the medium",
                 "errors that could not be corrected", "reallocated sectors"):  # fmt: skip
        now, then = counted.get(name, 0), before.get(name)
        if not now:
            continue
        moved = then is not None and now > then
        evidence = f"{now} {name}" + (f", {then} at the survey before" if then is not None else "")
        if moved and now >= _MANY:
            what = f"More and more {name}: save the data first, then replace the disk"
            yield Finding(severity=Severity.FAILING, what=what, where=disk, evidence=evidence)
        elif name != "reallocated sectors" or moved or now >= _MANY:
            what = f"The disk has {name}"
            yield Finding(severity=Severity.WARNING, what=what, where=disk, evidence=evidence)
        else:
            what = f"The disk has replaced {now} sectors, and no more since"
            yield Finding(severity=Severity.NOTE, what=what, where=disk, evidence=evidence)
    cable = counted.get("errors on the cable", 0) - before.get("errors on the cable", 0)
    if before and cable > 0:
        what = "Errors on the way to the disk: look at its cable and connector"
        evidence = f"{cable} more errors on the cable than at the survey before"
        yield Finding(severity=Severity.WARNING, what=what, where=disk, evidence=evidence)
    used = counted.get("per cent of its life used", 0)
    if used >= WORN:
        what = f"The disk has used {used} % of its life: replace it in time"
        yield Finding(severity=Severity.WARNING, what=what, where=disk, evidence=_said(counted))
    if (heat := counted.get("degrees", 0)) >= HOT:
        what = f"The disk is {heat} °C hot: look at fans and dust"
        yield Finding(severity=Severity.WARNING, what=what, where=disk, evidence=f"{heat} °C")


def _said(counted: Counters) -> str:
    return ", ".join(f"{name} {value}" for name, value in counted.items())[:500]


def _mapping(value: object) -> Mapping[str, Any]:
    return value if isinstance(value, dict) else {}


def _whole(value: object) -> int | None:
    """A number that can be one: others say what they want."""
    is_whole = isinstance(value, int) and not isinstance(value, bool)
    return int(str(value)) if is_whole and 0 <= int(str(value)) < 2**63 else None

"""What a machine is: what people say, and beside it what its agent read. Both are kept; what a
person said counts."""

from __future__ import annotations

from enum import StrEnum

from pydantic import Field

from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.values import Moment, Value
from phylax.core.inventory.hardware import HardwareListed


class FactName(StrEnum):
    """What both people and agents know of a machine."""

    MAKE = "make"
    MODEL = "model"
    SERIAL = "serial"
    MEMORY = "memory"
    PROCESSOR = "processor"
    SYSTEM_VERSION = "system_version"


class StatedFact(Value):
    """One word on a fact."""

    value: str = Field(description="Of memory: bytes")
    source: str = Field(description="Who said it, or what read it; empty: not known")
    at: Moment


class Fact(Value):
    """A fact of a machine, by whom it is known."""

    name: FactName
    stated: StatedFact | None = Field(None, description="By a person; it counts")
    detected: StatedFact | None = Field(None, description="By the machine's agent")
    differs: bool = Field(False, description="A person says something else than the machine")


_PLACEHOLDERS = frozenset({
    "to be filled by o.e.m.", "system serial number", "default string", "none", "not specified",
    "not applicable", "n/a", "serial number", "123456789", "0123456789", "o.e.m.", "oem",
    "system manufacturer", "system product name", "unknown", "empty", "chassis serial number",
})  # fmt: skip
"""What makers leave where a serial number, a make or a model belongs."""


def is_placeholder(text: str) -> bool:
    """Whether a text stands where nobody wrote anything: many machines have it in common."""
    plain = " ".join(text.casefold().split())
    return plain in _PLACEHOLDERS or not plain.strip("0x -.")


def read_at_enrolment(facts: MachineFacts) -> dict[FactName, str]:
    return _known(
        {
            FactName.MAKE: facts.make,
            FactName.MODEL: facts.model,
            FactName.MEMORY: "" if facts.memory is None else str(facts.memory),
        }
    )


def read_in_hardware(hardware: HardwareListed) -> dict[FactName, str]:
    return _known(
        {
            FactName.MAKE: hardware.make,
            FactName.MODEL: hardware.model,
            FactName.SERIAL: hardware.serial,
            FactName.MEMORY: "" if hardware.memory is None else str(hardware.memory),
            FactName.PROCESSOR: hardware.processor,
            FactName.SYSTEM_VERSION: hardware.system_version,
        }
    )


def _known(read: dict[FactName, str]) -> dict[FactName, str]:
    return {
        name: " ".join(value.split())[:120]
        for name, value in read.items()
        if value.strip() and not is_placeholder(value)
    }

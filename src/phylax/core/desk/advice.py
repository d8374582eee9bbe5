"""Advice: what a client is told to buy or do, with its figures and what became of it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from enum import StrEnum
from typing import Annotated

from pydantic import Field, model_validator

from phylax.core.clients.shop import Volume
from phylax.core.ground.quantities import show_size
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.inventory import HardwareListed
from phylax.core.trends import Help, Outlook

_GIB = 2**30
FULL_AFTER_CLEANING = 90
"""Per cent from which a volume that was just cleaned is too small."""
_ROOMY = 50
"""Per cent: another volume that is used less has room for what fills the first."""
_LITTLE_MEMORY = 4 * _GIB
_PRESSED = 5.0


class AdviceKind(StrEnum):
    MEMORY = "more memory"
    SOLID_STATE = "a solid-state disk"
    LARGER_DISK = "a larger disk"
    OTHER_VOLUME = "another volume's space"
    ARCHIVE = "an archive"
    FOLDERS_ELSEWHERE = "people's folders elsewhere"
    PORTABLE = "a portable version"
    OTHER = "other"


class AdviceStatus(StrEnum):
    PROPOSED = "proposed"
    """By what is known of the machine; nobody has told the client yet."""
    TOLD = "told"
    ACCEPTED = "accepted"
    DECLINED = "declined"
    DONE = "done"
    DROPPED = "dropped"
    """The shop thinks otherwise."""


class Figure(Value):
    """What advice goes by."""

    name: Annotated[str, Field(max_length=120)]
    value: Annotated[str, Field(max_length=200)]


class AdviceEdit(Demand):
    """Advice as a person gives it."""

    kind: AdviceKind
    text: Annotated[str, Field(min_length=1, max_length=1000)]
    figures: Annotated[tuple[Figure, ...], Field(max_length=20)] = ()


class AdviceStep(Demand):
    """What became of advice."""

    status: AdviceStatus
    comment: Annotated[str, Field(max_length=400)] = ""
    again_on: date | None = Field(
        None, description="Of declined advice: the client is not asked again before that day"
    )

    @model_validator(mode="after")
    def _again_is_of_declined(self) -> AdviceStep:
        if self.again_on is not None and self.status is not AdviceStatus.DECLINED:
            raise ValueError("'again_on' is for advice that was declined")
        return self


class GivenAdvice(Value):
    """What a client is advised, and what became of it."""

    id: int
    machine_id: int
    kind: AdviceKind
    subject: str = ""
    text: str
    figures: tuple[Figure, ...] = ()
    status: AdviceStatus
    comment: str = ""
    by: str
    at: Moment
    made_by: str
    made_at: Moment
    again_on: date | None = Field(None, description="Not asked again before that day")
    version: int = 1

    def comes_up(self, today: date) -> bool:
        """Whether the client is to be asked: never within the time in which they said not now."""
        if self.status is AdviceStatus.DECLINED:
            return self.again_on is not None and self.again_on <= today
        return self.status in (AdviceStatus.PROPOSED, AdviceStatus.TOLD, AdviceStatus.ACCEPTED)


class Proposal(Value):
    """Advice that the figures of a machine speak for."""

    kind: AdviceKind
    subject: str = Field("", description="The volume, where it is of one")
    text: str
    figures: tuple[Figure, ...]


_HELPS = {
    Help.OTHER_VOLUME: AdviceKind.OTHER_VOLUME,
    Help.ARCHIVE: AdviceKind.ARCHIVE,
    Help.LARGER_DISK: AdviceKind.LARGER_DISK,
}


def proposals(
    volumes: Sequence[Volume],
    outlooks: Sequence[Outlook],
    hardware: HardwareListed | None,
    can_go: int,
) -> list[Proposal]:
    """What the figures of a machine speak for. `can_go`: bytes that a cleaning would still free."""
    of_volume = {outlook.volume_id: outlook for outlook in outlooks}
    proposed = [
        proposal
        for volume in volumes
        if (proposal := _of_full(volume, of_volume.get(volume.id), volumes, can_go))
    ]
    proposed += _of_memory(hardware)
    spinning = [volume for volume in volumes if volume.disk == "spinning"]
    if spinning and hardware is not None and not hardware.unread:
        proposed.append(
            Proposal(
                kind=AdviceKind.SOLID_STATE,
                subject=spinning[0].mount,
                text="A solid-state disk instead of the spinning one: of all that can be done "
                "here, people would notice this most.",
                figures=(
                    Figure(name="Disk", value=f"{spinning[0].mount} spins"),
                    Figure(name="To be moved", value=show_size(_used(spinning[0]))),
                ),
            )
        )
    return proposed


def _of_full(
    volume: Volume, outlook: Outlook | None, volumes: Sequence[Volume], can_go: int
) -> Proposal | None:
    """For a volume that cleaning alone does not keep below its threshold: what its outlook says
    helps, or where there is none yet, what its figures say."""
    used = _used(volume)
    still = max(0, used - can_go)
    advised = outlook.advice if outlook is not None and outlook.over else None
    helps = advised.helps if advised is not None else None
    is_full = bool(volume.capacity) and 100 * still >= FULL_AFTER_CLEANING * volume.capacity
    if helps not in _HELPS and not is_full:
        return None
    figures = [
        Figure(
            name=f"Used of {volume.mount.rstrip(':')}", value=f"{100 * used // volume.capacity} %"
        ),
        Figure(name="A cleaning would free", value=show_size(can_go)),
        Figure(name="Capacity", value=show_size(volume.capacity)),
    ]
    if advised is not None and helps in _HELPS:
        return Proposal(
            kind=_HELPS[helps],
            subject=volume.mount,
            text=f"{advised.text[:1].upper()}{advised.text[1:]}.".replace("..", "."),
            figures=tuple(figures),
        )
    roomy = [
        other for other in volumes
        if other.mount != volume.mount and other.capacity
        and 100 * _used(other) < _ROOMY * other.capacity and other.free > volume.capacity // 10
    ]  # fmt: skip
    if roomy:
        other = max(roomy, key=lambda volume: volume.free)
        figures.append(Figure(name=f"{other.mount} free", value=show_size(other.free)))
        return Proposal(
            kind=AdviceKind.OTHER_VOLUME,
            subject=volume.mount,
            text=f"Move what fills {volume.mount} to {other.mount}, which has room: cleaning "
            "does not help there for long.",
            figures=tuple(figures),
        )
    return Proposal(
        kind=AdviceKind.LARGER_DISK,
        subject=volume.mount,
        text=f"A larger disk: {volume.mount} is full of people's own files, and cleaning does "
        "not help.",
        figures=tuple(figures),
    )


def _of_memory(hardware: HardwareListed | None) -> list[Proposal]:
    if hardware is None or hardware.memory is None:
        return []
    pressed = hardware.pressed is not None and hardware.pressed >= _PRESSED
    if not pressed and hardware.memory > _LITTLE_MEMORY:
        return []
    if hardware.most_memory is not None and hardware.most_memory <= hardware.memory:
        return []
    figures = [Figure(name="Memory", value=show_size(hardware.memory))]
    model = f"{hardware.make} {hardware.model}".strip()
    if model:
        figures.append(Figure(name="Make and model", value=model))
    if hardware.most_memory is not None:
        figures.append(Figure(name="Fits", value=show_size(hardware.most_memory)))
    for slot in hardware.slots:
        held = "empty" if slot.size is None else show_size(slot.size)
        words = f"{held} {slot.kind} {slot.maker} {slot.model}".split()
        figures.append(Figure(name=slot.place or "Slot", value=" ".join(words)))
    if hardware.pressed is not None:
        value = f"{hardware.pressed:.0f} % of the time"
        figures.append(Figure(name="Somebody waited for memory", value=value))
    text = "More memory: what runs here needs more than there is."
    return [Proposal(kind=AdviceKind.MEMORY, text=text, figures=tuple(figures))]


def _used(volume: Volume) -> int:
    return volume.capacity - volume.free

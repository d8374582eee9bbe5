"""Measurements of volumes: how large they are, and how much is free."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Self

from pydantic import Field, model_validator

from phylax.core.ground.machines import DiskKind
from phylax.core.ground.values import BytesTold, Demand, Moment, NumericDate, to_seconds


class _OfVolume(Demand):
    mount: str
    capacity: BytesTold
    name: str = ""
    file_system: str = ""
    disk: DiskKind = "unknown"
    identity: Annotated[
        str, Field(max_length=80, description="Of the file system, such as its UUID, if known")
    ] = ""


class ReadingIn(_OfVolume):
    """One measurement of a volume by the agent."""

    free: BytesTold
    at: Moment

    @model_validator(mode="after")
    def _within_it(self) -> Self:
        # a file system may promise more than it has
        if self.free > self.capacity:
            object.__setattr__(self, "free", self.capacity)
        return self


class VolumeReadings(_OfVolume):
    """Many measurements of one volume, in any order: free bytes at each time."""

    at: tuple[NumericDate, ...] = Field(min_length=1, max_length=10_000)
    free: tuple[BytesTold, ...]

    @model_validator(mode="after")
    def _one_for_each_time(self) -> Self:
        if len(self.at) != len(self.free):
            raise ValueError(f"{len(self.at)} times, but {len(self.free)} values of free bytes")
        if max(self.free) > self.capacity:
            within = tuple(min(free, self.capacity) for free in self.free)
            object.__setattr__(self, "free", within)
        return self


def by_volume(readings: Iterable[ReadingIn]) -> tuple[VolumeReadings, ...]:
    """Single measurements as series, one for each volume as long as it stays the same."""
    series_of: dict[tuple[object, ...], list[ReadingIn]] = {}
    for reading in readings:
        kind = (
            reading.mount,
            reading.capacity,
            reading.name,
            reading.file_system,
            reading.disk,
            reading.identity,
        )
        series_of.setdefault(kind, []).append(reading)
    return tuple(
        VolumeReadings(
            **of_one[0].model_dump(exclude={"at", "free"}),
            at=tuple(to_seconds(reading.at) for reading in of_one),
            free=tuple(reading.free for reading in of_one),
        )
        for of_one in series_of.values()
    )

"""Who and what the shop knows: its people, clients, machines and their volumes."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, timedelta
from enum import StrEnum
from typing import Annotated, Literal, Self
from zoneinfo import ZoneInfo, available_timezones

from pydantic import AfterValidator, Field, model_validator

from phylax.core.trends.outlook import Crossing
from phylax.core.values import Bytes, BytesTold, Demand, Moment, NumericDate, Value, to_seconds


class System(StrEnum):
    """The operating system of a machine."""

    WINDOWS = "windows"
    MACOS = "macos"
    LINUX = "linux"


DiskKind = Literal["ssd", "spinning", "unknown"]


def known_zone(name: str) -> str:
    """The name of an IANA time zone, or ValueError saying what is allowed."""
    if name not in available_timezones():
        raise ValueError(f"{name!r} is not a time zone; write an IANA name such as 'Europe/Dublin'")
    return name


Zone = Annotated[str, AfterValidator(known_zone), Field(examples=["Europe/Dublin"])]
Tag = Annotated[
    str,
    Field(
        pattern=r"^[a-z0-9][a-z0-9-]{0,62}$",
        description="Short name on the machine's label: small letters, digits and hyphens",
        examples=["ferry-desk"],
    ),
]
_TAKEN = ("new", "numbers", "free-lines", "labels")
"""What addresses of the console and the service mean something else by."""


def usable_tag(tag: str) -> str:
    """The tag, or ValueError where it would be mistaken for a machine's number or a page."""
    if tag.isdecimal():
        raise ValueError("a tag of digits alone would be mistaken for a number; add a letter")
    if tag in _TAKEN:
        raise ValueError(f"{tag!r} is the name of a page; choose another tag")
    return tag


Name = Annotated[str, Field(min_length=1, max_length=120, examples=["Skerry Ferry Office"])]
Note = Annotated[str, Field(max_length=4000)]


Threshold = Annotated[int, Field(ge=50, le=99, description="A volume used more is nearly full")]


SecurityDays = Annotated[
    int,
    Field(ge=1, le=365, description="A security update missing for longer needs somebody"),
]


class ShopEdit(Demand):
    """What may be changed about the shop itself."""

    name: Name
    zone: Zone
    threshold_percent: Threshold = 90
    security_days: SecurityDays = 14


class Shop(Value):
    name: str
    zone: str
    threshold_percent: int
    security_days: int = 14
    version: int
    is_demo: bool = False

    @property
    def clock(self) -> ZoneInfo:
        return ZoneInfo(self.zone)


class ClientEdit(Demand):
    """A client as people write it down."""

    name: Name
    contact: Annotated[str, Field(max_length=120, examples=["Aoife Brann"])] = ""
    mail: Annotated[str, Field(max_length=200, examples=["office@ferry.example"])] = ""
    phone: Annotated[str, Field(max_length=60)] = ""
    note: Note = ""
    reach_by: Literal["", "phone", "mail", "message", "in person"] = Field(
        "", description="How they like to be reached"
    )
    hours: Annotated[str, Field(max_length=200, examples=["mornings, not on Wednesday"])] = ""
    agreements: Annotated[str, Field(max_length=2000, examples=["weekly, quarterly report"])] = ""
    zone: Zone | None = Field(None, description="Time zone, where it is not the shop's")
    at_once: Annotated[
        int | None,
        Field(ge=1, le=1000, description="So many of its machines may work in rounds at once"),
    ] = None
    threshold_percent: Threshold | None = Field(None, description="Left out: the shop's")


class Client(Value):
    id: int
    name: str
    contact: str = ""
    mail: str = ""
    phone: str = ""
    note: str = ""
    reach_by: Literal["", "phone", "mail", "message", "in person"] = ""
    hours: str = ""
    agreements: str = ""
    zone: str | None = None
    at_once: int | None = None
    threshold_percent: int | None = None
    machines: int = 0
    retired_at: Moment | None = Field(None, description="Since when it is not looked after")
    retired_why: str = ""
    forgotten_at: Moment | None = Field(None, description="Since when nothing of theirs is known")
    version: int


class ClosingDaysEdit(Demand):
    """Days on which the shop, or one client, is closed; both ends belong to them."""

    client_id: int | None = Field(None, description="Left out: the shop")
    first: date
    last: date
    name: Name

    @model_validator(mode="after")
    def _ends_after_it_begins(self) -> ClosingDaysEdit:
        if not timedelta(0) <= self.last - self.first <= timedelta(days=366):
            raise ValueError("the last day is the first or a later one, within a year")
        return self


class ClosingDays(Value):
    id: int
    client_id: int | None = None
    client_name: str | None = None
    first: date
    last: date
    name: str


class MachineEdit(Demand):
    """A machine as the desk takes it in."""

    tag: Annotated[Tag, AfterValidator(usable_tag)]
    client_id: int
    system: System
    make: Annotated[str, Field(max_length=120, examples=["Corrin"])] = ""
    model: Annotated[str, Field(max_length=120, examples=["Slate 14"])] = ""
    serial: Annotated[str, Field(max_length=120)] = ""
    memory: Bytes | None = None
    processor: Annotated[str, Field(max_length=120)] = ""
    system_version: Annotated[str, Field(max_length=120, examples=["Windows 11 24H2"])] = ""
    year: Annotated[int, Field(ge=1980, le=2100)] | None = None
    used_for: Annotated[str, Field(max_length=400, examples=["tickets and the till"])] = ""
    used_by: Annotated[str, Field(max_length=400, examples=["whoever has the shift"])] = ""
    stands_at: Annotated[str, Field(max_length=400, examples=["behind the counter"])] = ""
    note: Note = ""
    threshold_percent: Threshold | None = Field(
        None, description="Left out: the client's, or the shop's"
    )


class Volume(Value):
    """One mounted file system, as last read."""

    id: int
    mount: str
    name: str = ""
    disk: DiskKind = "unknown"
    file_system: str = ""
    capacity: int = 0
    free: int = 0
    read_at: Moment | None = None
    gone_at: Moment | None = Field(None, description="Since when the machine has it no longer")
    crosses: Crossing | None = Field(
        None, description="When its threshold is crossed; absent where that cannot be said"
    )

    @property
    def used(self) -> int:
        return self.capacity - self.free

    @property
    def used_share(self) -> float:
        return self.used / self.capacity if self.capacity else 0.0

    def is_nearly_full(self, threshold_percent: int) -> bool:
        return self.capacity > 0 and 100 * self.used > threshold_percent * self.capacity


class Machine(Value):
    id: int
    tag: str
    client_id: int
    client_name: str
    system: System
    make: str = ""
    model: str = ""
    serial: str = ""
    memory: int | None = None
    processor: str = ""
    system_version: str = ""
    year: int | None = None
    used_for: str = ""
    used_by: str = ""
    stands_at: str = ""
    note: str = ""
    version: int
    enrolled: bool = False
    agent_version: str = ""
    seen_at: Moment | None = None
    cleaned_at: Moment | None = None
    next_round_at: Moment | None = None
    threshold_percent: int | None = Field(None, description="Its own, where it has one")
    limit_percent: int = Field(90, description="The threshold in force: its own, or whose it is")
    clock_off: int = Field(0, description="Seconds by which its clock is ahead")
    clock_off_since: Moment | None = None
    clock_doubt: str = Field("", description="Why its agent does not trust its clock")
    clock_doubt_since: Moment | None = None
    retired_at: Moment | None = Field(None, description="Since when it is not looked after")
    retired_why: str = ""
    volumes: tuple[Volume, ...] = ()
    gone_volumes: tuple[Volume, ...] = Field((), description="Which it once had")


class EnrolmentCode(Value):
    """A one-time code by which an agent becomes this machine's. Shown once."""

    code: str
    machine_id: int
    expires_at: Moment


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


def _shown(text: str) -> str:
    """What a machine says of itself moves no cursor and fills no page."""
    return "".join(sign if sign.isprintable() else " " for sign in text)[:200]


Told = Annotated[str, AfterValidator(_shown)]


class MachineFacts(Demand):
    """What an agent knows of its machine when it enrols."""

    system: System
    host: Told
    agent_version: Told
    kind: Literal["linux", "windows", "standin"]
    memory: BytesTold | None = None
    make: Told = ""
    model: Told = ""

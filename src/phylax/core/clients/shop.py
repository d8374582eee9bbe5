"""Who and what the shop knows: its people, clients, machines and their volumes."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import AfterValidator, Field, model_validator

from phylax.core.ground.machines import DiskKind, System
from phylax.core.ground.names import Name, Note, Tag, Zone, usable_tag
from phylax.core.ground.values import (
    Bytes,
    Demand,
    Moment,
    Value,
)
from phylax.core.trends.outlook import Crossing

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
    contact_by: Literal["", "phone", "mail", "message", "in person"] = Field(
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
    contact_by: Literal["", "phone", "mail", "message", "in person"] = ""
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
    location: Annotated[str, Field(max_length=400, examples=["behind the counter"])] = ""
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
    location: str = ""
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

"""Quayside Computer Repair, on the invented island of Tarn Skerry: who, what, and each story.

Sizes are in GiB, rates in GiB a day. All people, places, firms and makes are invented.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, time, timedelta

from phylax.agent.machines.standin_checks import PretendedChecks, PretendedVolume
from phylax.core.attention.notices import AtOnce, WishesEdit
from phylax.core.checks.findings import Finding, Severity
from phylax.core.ground.machines import DiskKind, System
from phylax.core.people.accounts import Role
from phylax.core.retention import PressureStep, ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind

SHOP = "Quayside Computer Repair"
ZONE = "Europe/Dublin"
PASSWORD = "quayside-demo"
"""The demo's only; no shop outside the demo is ever made with it."""

PEOPLE = (
    ("ines", "Ines Marrow", Role.OWNER),
    ("tobias", "Tobias Quill", Role.TECHNICIAN),
    ("wren", "Wren Halloran", Role.TECHNICIAN),
    ("petra", "Petra Lund", Role.DESK),
)

WISHES = (
    ("ines", WishesEdit(mail="ines@quayside.example", at_once=AtOnce.URGENT, daily=True)),
    ("tobias", WishesEdit(mail="tobias@quayside.example", at_once=AtOnce.ALL)),
    ("wren", WishesEdit(mail="wren@quayside.example", at_once=AtOnce.URGENT,
                        quiet_from=time(19), quiet_until=time(7, 30))),
    ("petra", WishesEdit(mail="petra@quayside.example", at_once=AtOnce.NEVER, daily=True)),
)  # fmt: skip
"""Who is told of what by mail."""

On = Callable[[datetime], bool]
"""Whether a machine is on at a local time."""


def office(at: datetime) -> bool:
    return at.weekday() < 5 and 8 <= at.hour < 19


def daytime(at: datetime) -> bool:
    return 9 <= at.hour < 18


def evenings(at: datetime) -> bool:
    return 9 <= at.hour < 23


def always(at: datetime) -> bool:
    return at.year > 0


def library_hours(at: datetime) -> bool:
    return (at.weekday() < 5 and 8 <= at.hour < 17) or (at.day == 1 and at.hour < 4)


@dataclass(frozen=True)
class VolumeSpec:
    mount: str
    capacity: float
    used_now: float
    """Share of the capacity in use at the demo's now."""
    own: float
    """What people's own files grow by."""
    junk: float
    """What can be cleaned grows by."""
    disk: DiskKind = "ssd"
    file_system: str = "NTFS"
    lately: tuple[int, float] | None = None
    """Since so many days, what people's own files grow by instead."""


@dataclass(frozen=True)
class MachineSpec:
    tag: str
    client: str
    system: System
    make: str
    model: str
    memory: int
    volumes: tuple[VolumeSpec, ...]
    on: On = office
    person: str = "desk"
    live: bool = False
    story: str = ""
    recovers: float = 0.9
    """The share of the junk that a cleaning lets go."""


@dataclass(frozen=True)
class RoundSpec:
    name: str
    recurrence: str
    at: str
    machines: tuple[str, ...]
    catch_up: timedelta = timedelta(hours=36)
    began_days_ago: int = 400
    routine: str = "Light weekly"
    clients: tuple[str, ...] = ()
    """All of whose machines it is for, also later ones; `machines` are those of today."""
    closes: str | None = None
    below_percent: int | None = None
    responsible_id: str = "Tobias Quill"


@dataclass(frozen=True)
class ClosedSpec:
    """Days on which somebody is closed, counted from the demo's now."""

    name: str
    first_in: int
    days: int
    client: str | None = None


@dataclass(frozen=True)
class RuleSpec:
    scope: Scope
    subject: str
    category: str
    rule: Rule


@dataclass(frozen=True)
class ProtectSpec:
    scope: Scope
    subject: str
    kind: ProtectKind
    what: str
    note: str = ""

    @property
    def entry(self) -> ProtectEntry:
        return ProtectEntry(kind=self.kind, pattern=self.what)


@dataclass(frozen=True)
class NoteSpec:
    machine: str
    days_ago: float
    who: str
    text: str


CLIENTS = (
    ("Skerry Ferry Office", "Maren Oyle", "office@skerryferry.example"),
    ("Marram Lighthouse Museum", "Edda Thorne", "desk@marramlight.example"),
    ("Gannet Row Veterinary Practice", "Dr Colm Ashby", "front@gannetrow.example"),
    ("Saltmarsh Primary School library", "Nuala Prendy", "library@saltmarsh.example"),
    ("Kelpie Boatyard", "Rory Vane", "yard@kelpieboats.example"),
    ("Tidewrack Pottery", "Sunniva Clay", "studio@tidewrack.example"),
    ("Harbour Choir archive", "Orla Finch", "archive@harbourchoir.example"),
    ("Bram Oakes, at home", "Bram Oakes", "bram@oakes.example"),
)

_WIN, _MAC, _LIN = System.WINDOWS, System.MACOS, System.LINUX


def _ssd(used: float, own: float, junk: float, capacity: float = 237.0) -> tuple[VolumeSpec, ...]:
    return (VolumeSpec("C:", capacity, used, own, junk),)


def _old_disk(used: float, own: float, junk: float) -> tuple[VolumeSpec, ...]:
    return (VolumeSpec("C:", 465.0, used, own, junk, "spinning"),)


def _linux(used: float, own: float, junk: float, capacity: float) -> tuple[VolumeSpec, ...]:
    return (VolumeSpec("/", capacity, used, own, junk, "ssd", "ext4"),)


def _mac(used: float, own: float, junk: float, capacity: float = 460.0) -> tuple[VolumeSpec, ...]:
    return (VolumeSpec("/", capacity, used, own, junk, "ssd", "APFS"),)


MACHINES = (
    MachineSpec("ferry-desk", "Skerry Ferry Office", _WIN, "Corrin", "Slate 14", 16,
                _ssd(0.58, 0.03, 0.35), person="maren"),
    MachineSpec("ferry-tickets", "Skerry Ferry Office", _WIN, "Corrin", "Slate 12", 8,
                (VolumeSpec("C:", 237.0, 0.885, 0.05, 0.25, lately=(24, 4.1)),),
                person="tickets",
                story="writes scans into a folder nobody empties"),
    MachineSpec("ferry-board", "Skerry Ferry Office", _LIN, "Pelham", "Cube 2", 8,
                _linux(0.41, 0.01, 0.08, 117.0), on=always, person="board"),
    MachineSpec("museum-desk", "Marram Lighthouse Museum", _WIN, "Haldane", "Tower 300", 8,
                _old_disk(0.63, 0.06, 0.3), on=daytime, person="edda"),
    MachineSpec("museum-kiosk", "Marram Lighthouse Museum", _LIN, "Pelham", "Cube 1", 4,
                _linux(0.72, 0.01, 0.12, 58.0), on=daytime, person="kiosk",
                story="off at night, so its nightly round is missed"),
    MachineSpec("vet-front", "Gannet Row Veterinary Practice", _WIN, "Corrin", "Slate 14", 16,
                _ssd(0.66, 0.04, 0.4), person="front"),
    MachineSpec("vet-xray", "Gannet Row Veterinary Practice", _WIN, "Haldane", "Tower 500", 32,
                (VolumeSpec("C:", 930.0, 0.94, 1.1, 0.15),), person="xray", recovers=0.95,
                story="94 % used after cleaning: the pictures themselves"),
    MachineSpec("vet-office", "Gannet Row Veterinary Practice", _WIN, "Corrin", "Slate 12", 16,
                _ssd(0.52, 0.02, 0.3), person="office"),
    *(
        MachineSpec(f"library-{n}", "Saltmarsh Primary School library", _WIN, "Haldane",
                    "Tower 200", 4, _old_disk(0.55 + 0.06 * n, 0.02, 0.12 + 0.03 * n),
                    on=library_hours, person=f"pupil{n}")
        for n in range(1, 5)
    ),
    MachineSpec("boatyard-cad", "Kelpie Boatyard", _WIN, "Haldane", "Tower 700", 64,
                (VolumeSpec("C:", 237.0, 0.955, 0.1, 0.35),
                 VolumeSpec("D:", 1862.0, 0.07, 0.05, 0.0)),
                on=evenings, person="rory", live=True,
                story="one volume full while the other is empty"),
    MachineSpec("boatyard-mac", "Kelpie Boatyard", _MAC, "Orrery", "Leaf 13", 8,
                _mac(0.81, 0.12, 0.3, 233.0), on=evenings, person="isla"),
    MachineSpec("pottery-mac", "Tidewrack Pottery", _MAC, "Orrery", "Leaf 15", 16,
                _mac(0.83, 0.1, 0.5), on=evenings, person="sunniva", live=True,
                story="holds more than any listing shows"),
    MachineSpec("choir-server", "Harbour Choir archive", _LIN, "Pelham", "Rack 1", 16,
                _linux(0.87, 0.12, 0.25, 233.0), on=always, person="orla", live=True,
                story="a listing of downloads needs approval"),
    MachineSpec("oakes-laptop", "Bram Oakes, at home", _WIN, "Corrin", "Slate 15", 16,
                _ssd(0.91, 0.03, 2.6, 476.0), on=evenings, person="bram", live=True,
                story="heavy use: caches are back a week after each cleaning"),
)  # fmt: skip

ROUNDS = (
    RoundSpec("Light weekly, ferry and vet", "FREQ=WEEKLY;BYDAY=TU", "18:30",
              ("ferry-desk", "ferry-tickets", "ferry-board", "vet-front", "vet-xray",
               "vet-office"),
              clients=("Skerry Ferry Office", "Gannet Row Veterinary Practice")),
    RoundSpec("Library, first of the month", "FREQ=MONTHLY;BYMONTHDAY=1", "00:00",
              ("library-1", "library-2", "library-3", "library-4"), routine="Thorough monthly",
              clients=("Saltmarsh Primary School library",), responsible_id="Wren Halloran"),
    RoundSpec("Kiosk, every night", "FREQ=DAILY", "02:00", ("museum-kiosk",),
              catch_up=timedelta(hours=3), began_days_ago=3, responsible_id="Wren Halloran"),
    RoundSpec("Museum desk, monthly", "FREQ=MONTHLY;BYDAY=1MO", "17:00", ("museum-desk",)),
    RoundSpec("Yard and pottery", "FREQ=MONTHLY;BYDAY=1FR", "19:00",
              ("boatyard-cad", "boatyard-mac", "pottery-mac")),
    RoundSpec("Choir, monthly", "FREQ=MONTHLY;BYMONTHDAY=15", "03:00", ("choir-server",),
              routine="Choir's server", closes="06:00", catch_up=timedelta(days=2)),
    RoundSpec("Oakes, weekly", "FREQ=WEEKLY;BYDAY=SA", "10:00", ("oakes-laptop",),
              below_percent=6),
)  # fmt: skip

ROUTINES = (
    RoutineEdit(
        name="Choir's server",
        note="What gathers slowly on it, in the small hours when nobody sings.",
        steps=(
            RoutineStep(kind=StepKind.SURVEY),
            RoutineStep(
                kind=StepKind.CLEAN,
                categories=("user-temp", "trash", "web-cache", "old-logs", "journal",
                            "package-revisions", "downloads"),
            ),
            RoutineStep(kind=StepKind.SECOND_LOOK),
        ),
    ),
)  # fmt: skip
AT_ONCE = {"Saltmarsh Primary School library": 2}
"""Clients whose line, or whose patience, takes only so many machines at work."""
CLOSED = (
    ClosedSpec("Island fair", 9, 2),
    ClosedSpec("School holidays", 5, 12, "Saltmarsh Primary School library"),
)
ON_BENCH = ("library-3", "Before hand-over", "Wren Halloran")
SKIPPED = ("Light weekly, ferry and vet", "vet-xray", "the pictures are being moved that evening")
LOOKED_BACK_DAYS = 200
"""Looks that old are in the demo's history."""
HISTORY = {"user-temp": 0.2, "trash": 0.45, "web-cache": 0.35}
"""What the cleanings of the past let go, and its share."""

RULES = (
    RuleSpec(Scope.SHOP, "", "trash", Rule(
        keep_for=timedelta(days=14),
        pressure=(PressureStep(below_percent=15, keep_for=timedelta(days=7)),
                  PressureStep(below_percent=5, keep_for=timedelta(days=1))))),
    RuleSpec(Scope.SHOP, "", "downloads", Rule(hold_for=timedelta(days=14))),
    RuleSpec(Scope.MACHINE, "ferry-tickets", "own-folders",
             Rule(off=False, keep_for=timedelta(days=60), folders=("C:\\Scans",))),
    RuleSpec(Scope.CLIENT, "Kelpie Boatyard", "user-caches", Rule(keep_for=timedelta(days=14))),
    RuleSpec(Scope.CLIENT, "Saltmarsh Primary School library", "trash",
             Rule(keep_for=timedelta(days=1))),
    RuleSpec(Scope.MACHINE, "choir-server", "downloads",
             Rule(off=False, keep_for=timedelta(days=90))),
    RuleSpec(Scope.MACHINE, "pottery-mac", "trash", Rule(keep_for=timedelta(days=30))),
)  # fmt: skip

PROTECTED = (
    ProtectSpec(Scope.SHOP, "", ProtectKind.PATTERN, "*.kdbx", "password stores"),
    ProtectSpec(Scope.SHOP, "", ProtectKind.SITE, "webmail.quayside.example", "our own mail"),
    ProtectSpec(Scope.CLIENT, "Skerry Ferry Office", ProtectKind.SITE,
                "bookings.skerryferry.example", "the booking desk stays signed in"),
    ProtectSpec(Scope.MACHINE, "vet-xray", ProtectKind.FOLDER,
                "C:\\Users\\xray\\Downloads\\Pictures", "the picture archive"),
    ProtectSpec(Scope.MACHINE, "choir-server", ProtectKind.PATTERN, "hymn-*.zip",
                "scores that Orla works from"),
)  # fmt: skip

CHECKS = {
    "library-3": PretendedChecks(
        volumes={
            "C:": PretendedVolume(
                findings=(
                    Finding(
                        severity=Severity.WARNING,
                        what="The file system has errors; it has to be checked while it is not "
                        "in use",
                        where="C:",
                        evidence="14 errors counted; first on the day it became slow",
                    ),
                )
            )
        },
        disks={"disk 0": {"failing": 0, "reallocated sectors": 6, "pending sectors": 0,
                          "degrees": 41}},
    ),
}  # fmt: skip
"""What checks of some machines come to; all others are well."""

NOTES = (
    NoteSpec("ferry-tickets", 20, "Wren Halloran",
             "Told Maren Oyle: the scanner's folder grows by more than two gigabytes a day."),
    NoteSpec("vet-xray", 6, "Tobias Quill",
             "Advised a larger disk: what fills it is the picture archive, not junk."),
    NoteSpec("library-3", 3, "Wren Halloran",
             "Slow to start. Check the file system before anything else is done here."),
    NoteSpec("pottery-mac", 12, "Petra Lund", "Client asked when the next cleaning is. Told her."),
    NoteSpec("oakes-laptop", 34, "Tobias Quill",
             "Bram downloads everything twice. Showed him where the files go."),
)  # fmt: skip


@dataclass(frozen=True)
class Trees:
    """What a stand-in's folders hold: (files, GiB) of each kind."""

    temp: tuple[int, float] = (90, 1.6)
    cache: tuple[int, float] = (240, 2.4)
    trash: tuple[int, float] = (24, 3.0)
    second_trash: tuple[int, float] = (0, 0.0)
    """On the second volume."""
    downloads: tuple[int, float] = (40, 5.0)
    documents: tuple[int, float] = (60, 4.0)
    extra: dict[str, tuple[int, float]] = field(default_factory=dict)
    """Further folders below the top of the system's volume."""
    own_folders: tuple[str, ...] = ()
    """Folders that the machine lets the shop name."""


TREES = {
    "ferry-tickets": Trees(extra={"Scans": (220, 66.0)}, own_folders=("C:\\Scans",)),
    "oakes-laptop": Trees(temp=(520, 6.4), cache=(1900, 11.8), trash=(46, 14.2),
                          downloads=(85, 31.0), documents=(120, 22.0)),
    "pottery-mac": Trees(temp=(260, 2.1), cache=(1100, 6.2), trash=(30, 12.5),
                         downloads=(48, 9.0), documents=(200, 40.0)),
    "choir-server": Trees(temp=(180, 0.9), cache=(700, 1.8), trash=(22, 5.1),
                          downloads=(64, 17.5), documents=(150, 60.0)),
    "vet-xray": Trees(temp=(60, 0.3), cache=(200, 0.5), trash=(4, 0.2), downloads=(10, 0.4),
                      extra={"Users/xray/Downloads/Pictures": (60, 88.0)}),
    "boatyard-cad": Trees(temp=(420, 4.4), cache=(800, 3.1), trash=(35, 6.0),
                          second_trash=(18, 41.0)),
}  # fmt: skip

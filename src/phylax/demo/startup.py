"""Startup programs on the demo's machines, what the shop wrote of it, what clients answered."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from datetime import datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import Literal

from phylax.agent.machines.standin_startup import (
    SETTINGS_FOLDER,
    STARTUP_FOLDER,
    PretendedStarting,
    PretendedValue,
    Startup,
)
from phylax.core.ground.machines import System
from phylax.core.ground.values import Scalar, to_seconds
from phylax.core.retention import Scope
from phylax.core.tuning.answers import Answer
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent, Program, StartCost, Starter, StarterKind
from phylax.core.tuning.rules import TuningRule
from phylax.core.tuning.setting import DependsOn, settings
from phylax.demo.scenario import MachineSpec
from phylax.store.tuning import answers, notebook, setting_rules

SIGN_IN, START, TIMER, SOCKET = (
    StarterKind.SIGN_IN, StarterKind.START, StarterKind.TIMER, StarterKind.SOCKET,
)  # fmt: skip


@dataclass(frozen=True)
class Pretended:
    """A made-up program: what starts it, and on which machines it is."""

    name: str
    key: str
    what: str
    starters: tuple[tuple[StarterKind, bool], ...]
    signed_by: str = ""
    guarded: str = ""
    needed_by: tuple[str, ...] = ()
    cost: int = 0
    """Processor time of a start, in milliseconds."""
    systems: tuple[System, ...] = tuple(System)
    only: tuple[str, ...] = ()
    """Tags, or beginnings of tags; none: every machine of these systems."""

    def is_on(self, spec: MachineSpec) -> bool:
        return spec.system in self.systems and (
            not self.only or any(spec.tag.startswith(tag) for tag in self.only)
        )


WINDOWS, LINUX, MACOS = System.WINDOWS, System.LINUX, System.MACOS
PROGRAMS = (
    Pretended("Screen driver's companion", "screen", "Keeps the screen as it was set.",
              ((START, True), (SIGN_IN, True)), "Corrin", guarded="the screen may hang on it",
              cost=420, systems=(WINDOWS,)),
    Pretended("Network care", "network-care", "Joins networks.", ((START, True),), "Corrin",
              guarded="network may hang on it", cost=310),
    Pretended("Word finder", "word-finder", "Reads all files, so that words in them are found.",
              ((START, True), (TIMER, True)), "Tarn Works", cost=5200),
    Pretended("Scan button helper", "scan-button", "Waits for the button of a scanner.",
              ((SIGN_IN, True), (START, True)), "Corrin", cost=1900,
              only=("ferry-", "vet-", "library-", "museum-desk")),
    Pretended("Harbour Chat", "harbour-chat", "Talks with others, with picture and sound.",
              ((SIGN_IN, True), (TIMER, True)), "Harbour Software", cost=3400,
              only=("ferry-", "oakes", "boatyard", "pottery")),
    Pretended("Drift Folder", "drift-folder", "Keeps a folder alike on several machines.",
              ((SIGN_IN, True),), "Drift", cost=2600, only=("boatyard", "oakes", "vet-office")),
    Pretended("Ticket printer", "ticket-printer", "Prints tickets at the counter.",
              ((START, True), (SOCKET, True)), "Skerry Ferry Office", cost=300,
              needed_by=("Ticket window",), only=("ferry-",)),
    Pretended("Picture archive", "picture-archive", "Takes pictures in from the x-ray.",
              ((START, True), (SOCKET, True)), "Gannet Pictures", cost=900, only=("vet-xray",)),
    Pretended("Offer bar", "offer-bar", "", ((SIGN_IN, True), (TIMER, True)), cost=2100,
              systems=(WINDOWS,), only=("oakes", "library-", "museum-desk")),
    Pretended("Newer versions", "newer-versions", "Looks for newer versions of one program.",
              ((START, True), (TIMER, True)), "Harbour Software", cost=700,
              only=("ferry-", "oakes", "boatyard", "pottery")),
    Pretended("Tide dial", "tide-dial", "Joins the network of the holiday house.",
              ((START, True),), "Tideline", cost=500, only=("oakes",)),
    Pretended("Old scanner driver", "old-scanner", "", ((START, False), (SIGN_IN, True)),
              cost=1200, systems=(WINDOWS,), only=("museum-desk", "library-2")),
    Pretended("Choir notes", "choir-notes", "Shares notes on paper within the house.",
              ((START, True), (SOCKET, True)), "Harbour Choir archive", cost=400, only=("choir",)),
)  # fmt: skip


VALUES: dict[str, Scalar | None] = {
    "power": "even", "power-on-battery": "even", "asleep-when": 30, "wake-timers": True,
    "motion": True, "shadows": True, "interruptions": True, "updates": "by-itself", "play": None,
    "sees": True, "hears": True, "locates": True, "hibernation": True, "browser-closing": False,
}  # fmt: skip
"""What settings of one value are on every machine, where its system has them."""
RULES: dict[str, Scalar] = {"updates": "wednesday-noon", "motion": False, "asleep-when": 60}
STARTS = 26
"""So many starts lie behind each machine, one a day."""


def starting(spec: MachineSpec) -> PretendedStarting:
    """What a machine does when it starts: what comes back, what it cannot be without."""
    key = {p.key: _program(p, spec).key for p in PROGRAMS if p.is_on(spec)}
    return PretendedStarting(
        comes_back=tuple(key[name] for name in ("offer-bar",) if name in key),
        cut_off_without=tuple(key[name] for name in ("tide-dial",) if name in key),
        dearer_without={
            key[name]: 1.3 for name in ("newer-versions",) if name in key and spec.tag in _DEARER
        },
    )


_DEARER = ("oakes-laptop", "ferry-desk")
"""Where programs look for newer versions themselves once nothing else does it for them."""


def lay(folder: Path, spec: MachineSpec, now: datetime) -> None:
    """What `startup/` lists of a stand-in, and the starts behind it."""
    startup = folder / STARTUP_FOLDER
    startup.mkdir()
    for pretended in PROGRAMS:
        if pretended.is_on(spec):
            program = _program(pretended, spec)
            text = program.model_dump_json(exclude_defaults=True, indent=1)
            (startup / f"{pretended.key}.json").write_text(text, encoding="utf-8")
    values = folder / SETTINGS_FOLDER
    values.mkdir()
    for key, value in VALUES.items():
        setting = settings()[key]
        if spec.system in setting.systems:
            name = f"{key}.{spec.person}" if setting.per_person else key
            text = PretendedValue(value=value).model_dump_json()
            (values / f"{name}.json").write_text(text, encoding="utf-8")
    pretended_startup = Startup(folder, spec.tag, PretendedStarting)
    for days in range(STARTS, 0, -1):
        pretended_startup.start_anew(now - timedelta(days=days, minutes=37 * days % 90))


def _program(pretended: Pretended, spec: MachineSpec) -> Program:
    path = _path(pretended, spec)
    is_package = spec.system is LINUX
    return Program(
        key=f"package:{pretended.key}" if is_package else f"path:{path}",
        name=pretended.name,
        package=pretended.key if is_package else "",
        signed_by="" if is_package else pretended.signed_by,
        path=path,
        digest="" if is_package else sha256(pretended.key.encode()).hexdigest(),
        description=pretended.what,
        starters=tuple(_starter(kind, on, pretended, spec) for kind, on in pretended.starters),
        guarded=pretended.guarded,
        needed_by=pretended.needed_by,
        cost=StartCost(processor_ms=pretended.cost, bytes_read=pretended.cost * 9000, starts=12),
    )


def _path(pretended: Pretended, spec: MachineSpec) -> str:
    maker = pretended.signed_by or pretended.name
    return {
        WINDOWS: f"C:\\Programs\\{maker}\\{pretended.key}.exe",
        MACOS: f"/Applications/{pretended.name}.app/Contents/MacOS/{pretended.key}",
        LINUX: f"/opt/{pretended.key}/run",
    }[spec.system]


def _starter(kind: StarterKind, on: bool, pretended: Pretended, spec: MachineSpec) -> Starter:
    return Starter(
        key=f"{kind}:{pretended.key}",
        kind=kind,
        on=on,
        person=spec.person if kind is SIGN_IN else "",
        when={TIMER: "each day at 12:00", SOCKET: "port 9100"}.get(kind, ""),
        can_wait=kind is START and spec.system is WINDOWS,
        can_bar=kind is START,
    )


_HERE = "C:/Programs/{}/*"
NOTEBOOK = (
    KnownEdit(
        recognition=Recognition(signed_by="Tarn Works", path=_HERE.format("Tarn Works")),
        name="Word finder", description="Reads all files so that words in them are found at once.",
        handling=ProgramDecision.HANGS, intent=Intent.OFF,
        depends_on=DependsOn(question="finds-words", on="no"),
    ),
    KnownEdit(
        recognition=Recognition(signed_by="Corrin", path="C:/Programs/Corrin/scan-button.exe"),
        name="Scan button helper",
        description="Waits for the button of a scanner; scans work without it.",
        handling=ProgramDecision.HANGS, intent=Intent.ON_DEMAND,
        depends_on=DependsOn(question="scans", on="no"),
    ),
    KnownEdit(
        recognition=Recognition(
            signed_by="Skerry Ferry Office", path=_HERE.format("Skerry Ferry Office")
        ),
        name="Ticket printer", description="The ferry's own; without it no ticket is printed.",
        handling=ProgramDecision.STAYS,
    ),
    KnownEdit(
        recognition=Recognition(
            signed_by="Harbour Software", path="C:/Programs/Harbour Software/newer-versions.exe"
        ),
        name="Newer versions", description="Looks for newer versions, as the programs do.",
        handling=ProgramDecision.GOES, intent=Intent.ON_DEMAND,
    ),
)  # fmt: skip
ANSWERS: tuple[tuple[str, str, Literal["yes", "no"], str], ...] = (
    ("Skerry Ferry Office", "finds-words", "no", "we know where our files are"),
    ("Skerry Ferry Office", "scans", "yes", "the manifests, every day"),
    ("Saltmarsh Primary School library", "scans", "no", "asked at the desk"),
    ("Bram Oakes, at home", "plays", "yes", ""),
)


def write_down(conn: sqlite3.Connection, client_ids: dict[str, int], now: datetime) -> None:
    """What the shop knows and was told."""
    at = to_seconds(now) - 40 * 86_400
    for number, edit in enumerate(NOTEBOOK):
        notebook.write_about(conn, edit, who="Wren Halloran", at=at + number * 86_400)
    for key, want in RULES.items():
        setting_rules.put(
            conn, Scope.SHOP, 0, key, TuningRule(value=want), who="Ines Marrow", at=at
        )
    for client, question, answer, word in ANSWERS:
        given = Answer(
            question=question, answer=answer, scope="client", comment=word, who="Petra Lund", at=now
        )
        answers.note(conn, given, client_ids[client])

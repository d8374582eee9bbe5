"""What the agent tells a worker to do, and what a worker says back.

Jobs come from the agent and are trusted. Messages come from a person's process: strict, bounded,
and read as JSON by a parser that refuses deep nesting, lone surrogates and unknown fields.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, TypeAdapter

from phylax.agent.machines.linux.people import Person
from phylax.agent.machines.linux.startup.of_person import MOST as MOST_STARTERS
from phylax.agent.machines.linux.startup.of_person import OfPerson
from phylax.core.checks.findings import MOST_FINDINGS, Finding
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.values import Demand, Moment, Scalar, Value
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.hold.holds import BatchName, BatchPick, HeldItem, IfTaken
from phylax.core.protocol import AgreedListing, CategoryOutcome, CategoryRule, LeftItem
from phylax.core.protocol.trusted_time import Believed
from phylax.core.retention import ProtectEntry
from phylax.core.survey import Item, SurveyLine
from phylax.core.tuning.pieces import Piece, State
from phylax.core.tuning.programs import Switch
from phylax.core.tuning.verdicts import Seen

Count = Annotated[int, Field(ge=0, le=2**62)]
Text = Annotated[str, Field(max_length=4096)]
Key = Annotated[str, Field(max_length=60)]

# --- jobs: from the agent ---------------------------------------------------------------------


class Surroundings(Value):
    """What a worker needs to know of its machine."""

    person: Person
    volumes: tuple[ReadingIn, ...]
    never_touch: tuple[str, ...] = Field((), description="From the machine's guard.toml")
    allow_folders: tuple[str, ...] = ()
    shared: tuple[str, ...] = Field((), description="Folders that everybody may write to")
    own: tuple[str, ...] = Field((), description="The agent's own folders, never entered")
    silence: float = 60.0
    root: str = Field("/", description="Where the system's folders begin")
    agent: str = Field("", description="What tells this agent's batches from another's")


class SurveyJob(Value):
    """Look through the person's places and touch nothing."""

    kind: Literal["look"] = "look"
    around: Surroundings
    look: tuple[CategoryRule, ...]
    protect: tuple[ProtectEntry, ...] = ()
    now: Believed
    volumes: VolumeChoice = ALL_VOLUMES
    known: str = Field("", description="Packed: since when folders lie where they lie")
    remember: bool = Field(False, description="Say which folders were seen")


class CleanJob(Value):
    """One pass of a cleaning over the person's places."""

    kind: Literal["clean"] = "clean"
    around: Surroundings
    look: tuple[CategoryRule, ...]
    protect: tuple[ProtectEntry, ...] = ()
    now: Believed
    run_id: int
    identity: str
    clean: tuple[str, ...]
    standing: tuple[str, ...] = ()
    agreed: tuple[AgreedListing, ...] = ()
    volumes: VolumeChoice = ALL_VOLUMES
    known: str = Field("", description="Packed: since when folders lie where they lie")


class HeldJob(Value):
    """Put things of the person's back, or let them go."""

    kind: Literal["put back", "let go"]
    around: Surroundings
    folders: tuple[str, ...]
    picks: tuple[BatchPick, ...]
    if_taken: IfTaken = IfTaken.LEAVE
    before: dict[str, tuple[tuple[int, int], ...]] = Field(
        {}, description="By batch: what was held when the work began"
    )
    moved_homes: dict[str, str] = Field(
        {}, description="By batch: the person's home when it was held, where it is another now"
    )


class PresentJob(Value):
    """Say which of some picks are held now."""

    kind: Literal["present"] = "present"
    around: Surroundings
    folders: tuple[str, ...]
    picks: tuple[BatchPick, ...]


class TellJob(Value):
    """Say what is held of the person's and was not told yet."""

    kind: Literal["tell"] = "tell"
    around: Surroundings
    folders: tuple[str, ...]
    batches: tuple[str, ...]


class RecoverJob(Value):
    """Put back what a cleaning that was cut off had moved aside, and say which things are gone that
    it was about to remove."""

    kind: Literal["recover"] = "recover"
    around: Surroundings
    folders: tuple[str, ...]
    batches: tuple[str, ...] = ()
    about: dict[str, Any] | None = None


class FindJob(Value):
    """Say which of the agent's batches lie in the person's hold folders: it may not know of all,
    where its own folder was set back."""

    kind: Literal["find"] = "find"
    around: Surroundings
    folders: tuple[str, ...]


class SettingsJob(Value):
    """Say what starts programs for the person, what settings of theirs are, or what was added to
    their browsers."""

    kind: Literal["settings"] = "settings"
    around: Surroundings
    what: Literal["starters", "values", "browsers"]


class SwitchJob(Value):
    """Say what a plan alters of the person's own."""

    kind: Literal["switch"] = "switch"
    around: Surroundings
    plan: tuple[Switch, ...]


class ValueJob(Value):
    """Say what a setting of the person's alters to become a value."""

    kind: Literal["value"] = "value"
    around: Surroundings
    setting: str
    value: Scalar


Do = Literal["read", "write", "sweep"]


class PieceJob(Value):
    """Read or write one piece of a change, or sweep up what was cut off."""

    kind: Literal["piece"] = "piece"
    around: Surroundings
    do: Do
    piece: Piece
    state: State | None = None


Job = Annotated[
    SurveyJob | CleanJob | HeldJob | PresentJob | TellJob | RecoverJob | FindJob | SettingsJob
    | SwitchJob | ValueJob | PieceJob,
    Field(discriminator="kind"),
]  # fmt: skip
_LATER = ConfigDict(defer_build=True)
JOB: TypeAdapter[Job] = TypeAdapter(Job, config=_LATER)


class Answer(Value):
    """What the agent answers where a worker waits for it."""

    ok: bool = True
    go_on: bool = True
    code: int = Field(0, description="errno, where what was asked for could not be done")
    why: str = ""
    files: str = Field("", description="In base64: pairs of device and file number in use")
    programs: tuple[str, ...] = ()
    folder: str = ""
    name: str = ""


# --- messages: from a worker ------------------------------------------------------------------


class Watched(Demand):
    """So much more is done. The worker waits for whether to go on."""

    kind: Literal["watched"] = "watched"
    category: Key
    items: Count
    size: Count


class InUseQuestion(Demand):
    """What is open on the machine now?"""

    kind: Literal["in use"] = "in use"


class Listed(Demand):
    """Items of a category whose listing is kept."""

    kind: Literal["listed"] = "listed"
    category: Key
    items: tuple[Item, ...] = Field(max_length=500)


class Lines(Demand):
    kind: Literal["lines"] = "lines"
    lines: tuple[SurveyLine, ...] = Field(max_length=100)


class Folders(Demand):
    """Folders that a survey saw, and since when they lie where they lie."""

    kind: Literal["folders"] = "folders"
    packed: Annotated[str, Field(max_length=2**20)]


class About(Demand):
    """Names that are about to be removed; to be noted before any of them is."""

    kind: Literal["about"] = "about"
    category: Key
    root: Text
    folders: tuple[Text, ...] = Field(max_length=600)
    names: tuple[tuple[Text, Count | None], ...] = Field(max_length=1000)
    note: tuple[tuple[Text, ...], Text] | None = None


class Removed(Demand):
    """So many of those have gone, and all announced were dealt with."""

    kind: Literal["went"] = "went"
    category: Key
    count: Count
    size: Annotated[int, Field(ge=-(2**62), le=2**62)]


class NewBatch(Demand):
    """A place in the hold is needed. The agent makes the folder and gives the name."""

    kind: Literal["batch"] = "batch"
    category: Key
    place: Text
    until_at: Moment
    held_at: Moment
    yields_below: int = Field(0, ge=0, le=100)
    aside: bool = False


class RoomQuestion(Demand):
    """How much more may be held on the volume of a place?"""

    kind: Literal["room"] = "room"
    place: Text


class HeldReport(Demand):
    """Things that lie in a batch of the person's."""

    kind: Literal["held"] = "held"
    batch: BatchName
    items: tuple[HeldItem, ...] = Field(max_length=500)


class PresentReport(Demand):
    """Numbers of a batch that lie in it now."""

    kind: Literal["present told"] = "present told"
    batch: BatchName
    numbers: tuple[tuple[Count, Count], ...] = Field(max_length=20_000)


class UnheldReport(Demand):
    """Numbers of a batch that lie in it no longer, and the bytes that they held."""

    kind: Literal["unheld"] = "unheld"
    batch: BatchName
    numbers: tuple[tuple[Count, Count], ...] = Field(max_length=20_000)
    size: Count = 0


class StartersReport(Demand):
    """What starts programs for the person."""

    kind: Literal["starters"] = "starters"
    starters: tuple[OfPerson, ...] = Field(max_length=MOST_STARTERS)


class ValuesReport(Demand):
    """Settings of the person's."""

    kind: Literal["values"] = "values"
    values: tuple[Seen, ...] = Field(max_length=100)


class FindingsReport(Demand):
    """What a check of the person's own found."""

    kind: Literal["findings"] = "findings"
    findings: tuple[Finding, ...] = Field(max_length=MOST_FINDINGS)


class PiecesReport(Demand):
    """What a change alters of the person's."""

    kind: Literal["pieces"] = "pieces"
    pieces: tuple[Piece, ...] = Field(max_length=500)


class StateReport(Demand):
    """What a piece is."""

    kind: Literal["state"] = "state"
    state: State


class BatchThere(Demand):
    """A batch of the agent's that lies in the person's hold folder, as its own head has it."""

    kind: Literal["batch there"] = "batch there"
    folder: Text
    batch: BatchName
    person: Annotated[str, Field(max_length=200)]
    run: Annotated[str, Field(max_length=200)]
    held_at: Moment
    until_at: Moment
    yields_below: int = Field(0, ge=0, le=100)
    aside: bool = False


class Report(Demand):
    """What became of everything in one pass, or of one order about held things."""

    kind: Literal["report"] = "report"
    outcomes: tuple[CategoryOutcome, ...] = Field((), max_length=100)
    left: tuple[LeftItem, ...] = Field((), max_length=500)
    again: tuple[AgreedListing, ...] = Field((), max_length=100)
    refused: dict[Key, Count] = Field({}, max_length=100)
    held: dict[BatchName, tuple[Count, Count]] = Field(
        {}, max_length=1000, description="By batch: things and bytes that it holds now"
    )
    problems: tuple[Text, ...] = Field((), max_length=100)
    code: int = Field(0, ge=0, le=4096, description="errno of the first problem, if it has one")
    stopped: bool = False
    there: tuple[Text, ...] = Field(
        (), max_length=5000, description="Folders of the protect list that the person can see"
    )
    gone: tuple[int, ...] = Field((), max_length=1000, description="Indexes of what has gone")


class Failed(Demand):
    """The work could not be done."""

    kind: Literal["failed"] = "failed"
    why: Annotated[str, Field(max_length=500)]


FromWorker = Annotated[
    Watched | InUseQuestion | Listed | Lines | Folders | About | Removed | NewBatch | RoomQuestion
    | HeldReport | UnheldReport | PresentReport | StartersReport | ValuesReport | FindingsReport
    | PiecesReport | StateReport | BatchThere | Report | Failed,
    Field(discriminator="kind"),
]  # fmt: skip
FROM_WORKER: TypeAdapter[FromWorker] = TypeAdapter(FromWorker, config=_LATER)
Handler = Callable[[FromWorker], Answer | None]
"""Takes a worker's message; what it returns is the answer. May raise to end the work."""

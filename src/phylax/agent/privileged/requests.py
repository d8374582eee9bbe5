"""What the agent asks of a privileged unit, and what comes back: JSON on a socket pair.

Both sides are root's and of one version; the models are strict all the same, so that a mistake ends
as a named error and not as something done otherwise.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter

from phylax.core.actions import Action, ActionPart, UnderWay
from phylax.core.catalogue import Source
from phylax.core.checks.findings import Checked
from phylax.core.ground.values import Value
from phylax.core.inventory import Inventory
from phylax.core.tuning.pieces import Piece, State


class CheckRequest(Value):
    kind: Literal["check"] = "check"
    check: str
    mode: str


class ActRequest(Value):
    kind: Literal["act"] = "act"
    action: Action
    cut_off: UnderWay | None = None


class WriteRequest(Value):
    """Make a piece of a setting what `state` says."""

    kind: Literal["write"] = "write"
    piece: Piece
    state: State


class SweepRequest(Value):
    kind: Literal["sweep"] = "sweep"
    piece: Piece


class RemoveThingRequest(Value):
    kind: Literal["remove thing"] = "remove thing"
    source: Source
    name: str


Request = Annotated[
    CheckRequest | ActRequest | WriteRequest | SweepRequest | RemoveThingRequest,
    Field(discriminator="kind"),
]


class Job(Value):
    """One request, and what is looked after on this machine."""

    request: Request
    homes: tuple[str, ...] = ()
    own_folders: tuple[str, ...] = ()


class Part(Value):
    kind: Literal["part"] = "part"
    part: ActionPart


class Begins(Value):
    """It is begun when the next word of progress is answered."""

    kind: Literal["begins"] = "begins"
    part: UnderWay


class Result(Value):
    kind: Literal["result"] = "result"
    result: Checked


class Listed(Value):
    kind: Literal["listed"] = "listed"
    listed: Inventory


class Progress(Value):
    """So far the work is; it goes on when it is answered."""

    kind: Literal["progress"] = "progress"
    done: int = 0
    of: int | None = None


class Failed(Value):
    """The work ended with an OSError."""

    kind: Literal["failed"] = "failed"
    code: int
    why: str
    filename: str = ""


class Done(Value):
    kind: Literal["done"] = "done"


Reply = Annotated[
    Part | Begins | Result | Listed | Progress | Failed | Done, Field(discriminator="kind")
]

REPLY: TypeAdapter[Any] = TypeAdapter(Reply)


class GoOn(Value):
    """The answer to progress."""

    go_on: bool

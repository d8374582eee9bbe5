"""Making changes and putting them back: the journal first, then the change, then reading back.

Each change has a file of its own: what was there, what is to be there, and how far it came. What
was cut off in the middle is undone at the next start.
"""

from __future__ import annotations

import errno
import logging
import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from enum import StrEnum
from pathlib import Path
from typing import Annotated

from pydantic import Field, ValidationError

from phylax.agent.platform.locks import alone_in
from phylax.agent.tuning.pieces import OddPieceError, is_like
from phylax.agent.tuning.setting_backend import SettingBackend
from phylax.core.ground.values import Moment, Value
from phylax.core.tuning.pieces import Piece, State

_log = logging.getLogger("phylax.agent")


class Stage(StrEnum):
    """How far a change came."""

    BEGUN = "begun"
    MADE = "made"
    REACHED = "reached"
    """The service was reached with it; not yet after a start of the machine."""
    CONFIRMED = "confirmed"
    UNDONE = "undone"
    PUT_BACK = "put back"

    @property
    def is_in_force(self) -> bool:
        return self in (Stage.MADE, Stage.REACHED, Stage.CONFIRMED)


class Change(Value):
    """One alteration of a setting on this machine, with all that it takes to put it back."""

    id: Annotated[str, Field(pattern=r"^[0-9a-z-]{1,80}$")]
    setting: str
    entry: str = Field("", description="The program meant, where the setting has many")
    name: str = Field("", description="Of the program, for people")
    of: str = Field("", description="The person whose it is")
    before: str = Field(description="In words")
    after: str
    at: Moment
    pieces: tuple[Piece, ...]
    stage: Stage = Stage.BEGUN
    hangs: bool = Field(
        False, description="Undone unless the service is reached with it, also after a start"
    )
    boot: str = Field("", description="What the system called the start in which it was made")
    uptime: float = Field(0, description="Seconds the machine had run then, but for sleep")
    untold: str = Field(
        "", description="It went back without an order and the service was not told; says why"
    )


class AlteredError(Exception):
    """Somebody altered it since: put back would undo what is not ours."""

    def __init__(self, paths: Sequence[str]) -> None:
        super().__init__("altered by somebody else since: " + ", ".join(paths))
        self.paths = tuple(paths)


class NotMadeError(Exception):
    """The change could not be made, and everything is as it was."""


class Changer:
    """Changes of one machine, with their journal."""

    def __init__(self, hands: SettingBackend, journal: Path) -> None:
        """`hands` read and write; `journal` lies in the agent's folder."""
        self._hands = hands
        self._journal = journal

    def changes(self) -> Iterator[Change]:
        """All that the journal knows, oldest first; one bad file costs only itself."""
        for path in sorted(self._journal.glob("*.json")):
            try:
                yield Change.model_validate_json(path.read_bytes())
            except (OSError, ValidationError) as failure:
                _log.warning("%s is no change: %s", path.name, failure)

    def change(self, change_id: str) -> Change:
        """One of them. KeyError where there is none."""
        for change in self.changes():
            if change.id == change_id:
                return change
        raise KeyError(change_id)

    def make(self, change: Change) -> Change:
        """Make a change whole, or leave everything as it was. NotMadeError says why."""
        with self._alone():
            return self._make(change)

    def _make(self, change: Change) -> Change:
        for piece in change.pieces:
            if not is_like(self._at(piece), piece.before):
                raise NotMadeError(f"{piece.shown} changed since it was looked at")
        self._note(change)
        try:
            for piece in change.pieces:
                self._hands.write(piece, piece.after)
            # an answer proves nothing: what lies there does
            wrong = [p.shown for p in change.pieces if not is_like(self._at(p), p.after)]
            if wrong:
                raise OSError(errno.EIO, f"did not become so: {', '.join(wrong)}")
        except OSError as failure:
            self._undo(change)
            raise NotMadeError(
                f"{failure.strerror}: {failure.filename or ''}".strip(": ")
            ) from None
        return self._note(change.model_copy(update={"stage": Stage.MADE}))

    def note(self, change: Change, **what: object) -> Change:
        """Keep something else of a change: how far it came, whether the service was told."""
        with self._alone():
            return self._note(self.change(change.id).model_copy(update=what))

    def put_back(self, change_id: str, stage: Stage = Stage.PUT_BACK, untold: str = "") -> Change:
        """Make everything what it was before a change.

        `stage` is what it then is; `untold` why it went back, where the service is to be told.
        AlteredError, and nothing is touched, where somebody altered it since; KeyError where there
        is no such change.
        """
        with self._alone():
            return self._put_back(self.change(change_id), stage, untold)

    def _put_back(self, change: Change, stage: Stage, untold: str) -> Change:
        if change.stage in (Stage.UNDONE, Stage.PUT_BACK):
            return change
        altered = [
            piece.shown
            for piece in change.pieces
            if not any(is_like(self._at(piece), state) for state in (piece.after, piece.before))
        ]
        if altered:
            raise AlteredError(altered)
        self._restore(change)
        return self._note(change.model_copy(update={"stage": stage, "untold": untold}))

    def recover(self) -> list[Change]:
        """Undo what was cut off in the middle. Returns what was."""
        if not self._journal.is_dir():
            return []
        with alone_in(self._journal):
            return self._recover()

    def _recover(self) -> list[Change]:
        begun = [change for change in self.changes() if change.stage is Stage.BEGUN]
        for piece in (piece for change in begun for piece in change.pieces):
            # a person's worker that does not answer costs only its own part
            with suppress(OSError):
                self._hands.sweep(piece)
        undone = []
        for change in begun:
            try:
                undone.append(self._undo(change))
            except OSError as failure:
                # tried again when the agent next starts, or next has an order
                _log.error("the change of %s cannot be undone: %s", change.entry, failure)
        return undone

    def drifted(self) -> list[tuple[Change, list[str]]]:
        """Changes in force of which somebody altered something, and which names.

        Of a name that a later change has altered too, the later one counts.
        """
        in_force: dict[tuple[str, str, str], tuple[Change, Piece]] = {}
        for change in sorted(self.changes(), key=lambda change: change.at):
            if change.stage.is_in_force:
                in_force |= {piece.place: (change, piece) for piece in change.pieces}
        found: dict[str, tuple[Change, list[str]]] = {}
        for change, piece in in_force.values():
            try:
                same = is_like(self._hands.read(piece), piece.after)
            except OSError:
                same = False
            if not same:
                found.setdefault(change.id, (change, []))[1].append(piece.shown)
        return list(found.values())

    def newest(self) -> float:
        """When the journal was last written, so that who keeps a copy knows when it is old."""
        try:
            return self._journal.stat().st_mtime
        except FileNotFoundError:
            return 0.0

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """A person at the machine may put back while the agent works: one after the other."""
        self._journal.mkdir(parents=True, exist_ok=True)
        with alone_in(self._journal):
            yield

    def _at(self, piece: Piece) -> State | None:
        try:
            return self._hands.read(piece)
        except (OddPieceError, NotADirectoryError):
            return None

    def _undo(self, change: Change) -> Change:
        self._restore(change)
        return self._note(change.model_copy(update={"stage": Stage.UNDONE}))

    def _restore(self, change: Change) -> None:
        """Each name that is as the change made it becomes what it was; others are left. OSError,
        after all others were dealt with, where one could not be."""
        failed: OSError | None = None
        for piece in reversed(change.pieces):
            try:
                at = self._at(piece)
                if is_like(at, piece.after) and not is_like(at, piece.before):
                    self._hands.write(piece, piece.before)
            except OSError as failure:
                # a folder that we made, in which somebody else has put something, stays
                if failure.errno != errno.ENOTEMPTY:
                    failed = failed or failure
        if failed is not None:
            raise failed

    def _note(self, change: Change) -> Change:
        path = self._journal / f"{change.at:%Y%m%dT%H%M%S}-{change.id}.json"
        temporary = path.with_suffix(".new")
        with open(temporary, "wb") as file:
            file.write(change.model_dump_json().encode())
            file.flush()
            os.fsync(file.fileno())
        os.replace(temporary, path)
        if sys.platform != "win32":
            folder = os.open(self._journal, os.O_RDONLY | os.O_DIRECTORY)
            try:
                os.fsync(folder)
            finally:
                os.close(folder)
        return change

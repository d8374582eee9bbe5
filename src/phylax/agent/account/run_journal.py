"""The journal of a run on this machine: what was ordered, what is about to go, what has gone.

Lines of JSON, appended before and after each batch of removals. Whoever opens the journal of a run
that was cut off looks which items of the last batch are gone, and so knows the truth.
"""

from __future__ import annotations

import json
import os
import secrets
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import psutil
from pydantic import ConfigDict, TypeAdapter, ValidationError

from phylax.agent import files
from phylax.agent.platform.reserve import Reserve
from phylax.agent.survey.places import Place, deeper
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.tally import Tally
from phylax.core.protocol import Order

_ORDER: TypeAdapter[Any] = TypeAdapter(Order, config=ConfigDict(defer_build=True))
_SYNC_EVERY = 1.0
"""Seconds; so much may be missing from the sum after the power was cut."""
_SAME_BOOT = 60.0
"""Seconds by which the time of the machine's start may seem to move when its clock is set."""
_READINGS = TypeAdapter(tuple[ReadingIn, ...])


class JournalError(Exception):
    """What cannot be noted is not done: the run ends here."""


class OddJournalError(Exception):
    """A journal is damaged, or by another version."""


class RunJournal:
    """What one run did so far, on disk."""

    def __init__(self, path: Path, reserve: Reserve | None = None) -> None:
        self._path = path
        self._reserve = reserve
        self._handle = _lent(reserve, partial(_open, path))
        self._unwritten = b""
        self._synced = time.monotonic()
        self._sums: dict[str, list[int]] = {}
        self.begun: dict[str, Any] = {}
        self.resumed = 0
        self.present: dict[str, list[tuple[int, int]]] = {}
        """By batch of the hold: the numbers ordered that were held when the run began."""
        self.noted: dict[str, Any] = {}
        self.unsized = 0
        """Things that went just before the run was cut off, of a size that is not known."""
        self.uncertain = False
        """The sum may lack something: things of unknown size, or, where the machine itself stopped
        in the middle, the last second before."""

    @classmethod
    def begin(
        cls,
        path: Path,
        order: Order,
        started_at: str,
        before: Sequence[ReadingIn],
        reserve: Reserve | None = None,
        gone_in: GoneIn | None = None,
    ) -> RunJournal:
        """A new journal, or that of the same run, cut off earlier."""
        if path.exists():
            return cls.reopen(path, reserve, gone_in)
        journal = cls(path, reserve)
        journal.begun = {
            "order": _ORDER.dump_python(order, mode="json"),
            "started_at": started_at,
            "before": _READINGS.dump_python(tuple(before), mode="json"),
            "boot": psutil.boot_time(),
            "identity": secrets.token_hex(16),
        }
        journal._write({"begun": journal.begun}, lasting=True)
        return journal

    @classmethod
    def reopen(
        cls, path: Path, reserve: Reserve | None = None, gone_in: GoneIn | None = None
    ) -> RunJournal:
        """The journal of a run that was cut off; the last batch is looked at and counted, by
        `gone_in` where somebody else has to look."""
        gone_in = gone_in or gone_of
        lines = path.read_text(encoding="utf-8", errors="surrogateescape").split("\n")
        journal = cls(path, reserve)
        about: dict[str, Any] | None = None
        for line in lines:
            try:
                entry = json.loads(line)
            except json.JSONDecodeError:
                # the last line, cut off while it was written: its batch had not begun
                continue
            if not isinstance(entry, dict):
                continue
            if "begun" in entry:
                journal.begun = entry["begun"]
            elif "about" in entry:
                about = entry["about"]
            elif "sums" in entry:
                journal._sums, about = entry["sums"], None
            elif "present" in entry:
                journal.present = {b: [(f, t) for f, t in of] for b, of in entry["present"].items()}
            elif "note" in entry:
                name, value = entry["note"]
                journal.noted[name] = value
            elif "resumed" in entry:
                journal.resumed += 1
        if about is not None:
            gone = journal.count_gone(about, gone_in(about))
            if gone and about.get("note"):
                _finish(about["root"], *about["note"])
        journal.resumed += 1
        began = journal.begun.get("boot")
        another_boot = began is not None and abs(psutil.boot_time() - began) > _SAME_BOOT
        journal.uncertain = another_boot or journal.unsized > 0
        # a line cut off in the middle must not swallow the next one
        journal._unwritten = b"\n"
        journal._write({"resumed": journal.resumed})
        journal.batch_done()
        return journal

    @staticmethod
    def order_in(path: Path) -> Any:
        """The order that a journal is of; None where it was cut off before anything was done.
        OddJournalError where it is none that this version knows."""
        with path.open(encoding="utf-8", errors="surrogateescape") as lines:
            first = lines.readline()
        try:
            begun = json.loads(first)
        except json.JSONDecodeError:
            return None
        try:
            return _ORDER.validate_python(begun["begun"]["order"])
        except (ValidationError, KeyError, TypeError) as error:
            raise OddJournalError(f"{path.name} is no journal that this agent knows") from error

    @property
    def identity(self) -> str:
        """Random, and the run's own on this machine, whatever number the service gave it."""
        begun = self.begun
        return str(begun.get("identity") or f"{begun.get('started_at')} {begun.get('boot')}")

    @property
    def before(self) -> tuple[ReadingIn, ...]:
        return _READINGS.validate_python(self.begun["before"])

    def about_to(
        self,
        category: str,
        place: Place,
        folder: str,
        names: Sequence[tuple[str, int | None]],
        note: tuple[Sequence[str], str] | None = None,
    ) -> None:
        """Of these names of one folder, with their bytes where they are known, some are about to be
        removed; after them a note about them, given by the folders below the place's root and its
        name."""
        self._write(
            {
                "about": {
                    "category": category,
                    "root": place.root,
                    "folders": [*place.below, *(folder.split("/") if folder else ())],
                    "names": names,
                    "note": note and [[*note[0]], note[1]],
                }
            }
        )

    def about_claimed(self, uid: int, about: str) -> None:
        """The same, as a person's worker says it, in JSON that was read and written anew: never
        opened but by a worker of theirs."""
        self._write_text(f'{{"about": {about[:-1]}, "uid": {uid}}}}}')

    def count_gone(self, about: dict[str, Any], indexes: Sequence[int]) -> int:
        """Count those as removed, of what was about to be, that are gone; how many they are."""
        names = about["names"]
        sizes = [names[index][1] for index in set(indexes) if 0 <= index < len(names)]
        for size in sizes:
            self.removed(about["category"], size or 0)
        # what was looked at and removed in one breath went with a size that nobody noted
        self.unsized += sizes.count(None)
        self.uncertain = self.uncertain or None in sizes
        self.batch_done()
        return len(sizes)

    def note(self, name: str, value: object) -> None:
        """Something about the run that has to be known after it was cut off, lasting."""
        self.noted[name] = value
        self._write({"note": [name, value]}, lasting=True)

    def note_present(self, present: dict[str, list[tuple[int, int]]]) -> None:
        """What is held of what was ordered, before anything is done."""
        self.present = present
        self._write({"present": present}, lasting=True)

    def removed(self, category: str, size: int, count: int = 1) -> None:
        sums = self._sums.setdefault(category, [0, 0])
        sums[0] += count
        sums[1] += size

    def batch_done(self) -> None:
        """Everything announced has been dealt with."""
        self._write({"sums": self._sums})

    def removed_of(self, category: str) -> Tally:
        count, size = self._sums.get(category, (0, 0))
        return Tally(count=count, size=size)

    def _write(self, line: dict[str, Any], *, lasting: bool = False) -> None:
        self._write_text(json.dumps(line), lasting=lasting)

    def _write_text(self, line: str, *, lasting: bool = False) -> None:
        try:
            self._write_line(line, lasting=lasting)
        except OSError as error:
            raise JournalError(f"the run's journal cannot be written: {error.strerror}") from error

    def _write_line(self, line: str, *, lasting: bool) -> None:
        self._unwritten += line.encode("utf-8", "surrogateescape") + b"\n"
        self._unwritten = files.append(self._handle, self._unwritten)
        if self._unwritten and self._reserve is not None and self._reserve.give_up():
            self._unwritten = files.append(self._handle, self._unwritten)
        # what there is still no room for waits for the space that the cleaning makes
        now = time.monotonic()
        if lasting or now - self._synced > _SYNC_EVERY:
            self._synced = now
            files.sync(self._handle)

    def close(self) -> None:
        os.close(self._handle)

    def finish(self) -> None:
        """The result is safely spooled; the journal is no longer needed."""
        self.close()
        self._path.unlink(missing_ok=True)


def _open(path: Path) -> int:
    path.parent.mkdir(parents=True, exist_ok=True)
    return os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | files.OWN, 0o600)


def _lent(reserve: Reserve | None, action: Callable[[], int]) -> int:
    return action() if reserve is None else reserve.lend(action)


def _finish(root: str, folders: Sequence[str], name: str) -> None:
    """Remove the note about a thing that has gone."""
    with suppress(OSError):
        handle = deeper(files.open_top(root), folders)
        try:
            files.unlink(name, handle)
        finally:
            files.close(handle)


GoneIn = Callable[[dict[str, Any]], Sequence[int]]
"""Which of a batch's names, by index, are no longer there."""


def gone_of(about: dict[str, Any]) -> list[int]:
    """Which of a batch's names, by index, are no longer there."""
    try:
        handle = files.open_top(about["root"])
    except OSError:
        return []
    try:
        handle = deeper(handle, about["folders"])
    except FileNotFoundError:
        # the emptied folder itself has gone, and all that was in it
        return list(range(len(about["names"])))
    except OSError:
        return []
    try:
        present = set(files.names(handle))
    finally:
        files.close(handle)
    return [index for index, (name, _) in enumerate(about["names"]) if name not in present]

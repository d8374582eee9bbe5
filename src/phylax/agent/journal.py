"""The journal of a run on this machine: what was ordered, what is about to go, what has gone.

Lines of JSON, appended before and after each batch of removals. Whoever opens the journal of a run
that was cut off looks which items of the last batch are gone, and so knows the truth.
"""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from phylax.agent.places import Place, open_folder
from phylax.core.orders import Order
from phylax.core.shop import ReadingIn
from phylax.core.survey import Tally

_ORDER: TypeAdapter[Any] = TypeAdapter(Order)
_READINGS = TypeAdapter(tuple[ReadingIn, ...])


class RunJournal:
    """What one run did so far, on disk."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o600)
        self._unwritten = b""
        self._sums: dict[str, list[int]] = {}
        self.begun: dict[str, Any] = {}
        self.resumed = 0

    @classmethod
    def begin(
        cls, path: Path, order: Order, started_at: str, before: Sequence[ReadingIn]
    ) -> RunJournal:
        """A new journal, or that of the same run, cut off earlier."""
        if path.exists():
            return cls.reopen(path)
        path.parent.mkdir(parents=True, exist_ok=True)
        journal = cls(path)
        journal.begun = {
            "order": _ORDER.dump_python(order, mode="json"),
            "started_at": started_at,
            "before": _READINGS.dump_python(tuple(before), mode="json"),
        }
        journal._write({"begun": journal.begun}, lasting=True)
        return journal

    @classmethod
    def reopen(cls, path: Path) -> RunJournal:
        """The journal of a run that was cut off; the last batch is looked at and counted."""
        lines = path.read_text(encoding="utf-8", errors="surrogateescape").splitlines()
        journal = cls(path)
        about: dict[str, Any] | None = None
        for line in lines:
            try:
                said = json.loads(line)
            except json.JSONDecodeError:
                # the last line, cut off while it was written: its batch had not begun
                continue
            if "begun" in said:
                journal.begun = said["begun"]
            elif "about" in said:
                about = said["about"]
            elif "sums" in said:
                journal._sums, about = said["sums"], None
            elif "resumed" in said:
                journal.resumed += 1
        if about is not None:
            for size in _gone(about):
                journal.removed(about["category"], size)
        journal.resumed += 1
        # a line cut off in the middle must not swallow the next one
        journal._unwritten = b"\n"
        journal._write({"resumed": journal.resumed})
        journal.batch_done()
        return journal

    @staticmethod
    def order_in(path: Path) -> Any:
        """The order that a journal is of; None where it was cut off before anything was done."""
        with path.open(encoding="utf-8", errors="surrogateescape") as lines:
            first = lines.readline()
        try:
            return _ORDER.validate_python(json.loads(first)["begun"]["order"])
        except json.JSONDecodeError:
            return None

    @property
    def before(self) -> tuple[ReadingIn, ...]:
        return _READINGS.validate_python(self.begun["before"])

    def about_to(
        self, category: str, place: Place, folder: str, names: Sequence[tuple[str, int]]
    ) -> None:
        """These names of one folder are about to be removed."""
        self._write(
            {
                "about": {
                    "category": category,
                    "root": place.root,
                    "folders": [*place.below, *(folder.split("/") if folder else ())],
                    "names": names,
                }
            }
        )

    def removed(self, category: str, size: int) -> None:
        sums = self._sums.setdefault(category, [0, 0])
        sums[0] += 1
        sums[1] += size

    def batch_done(self) -> None:
        """Everything announced has been dealt with."""
        self._write({"sums": self._sums})

    def removed_of(self, category: str) -> Tally:
        count, size = self._sums.get(category, (0, 0))
        return Tally(count=count, size=size)

    def _write(self, line: dict[str, Any], *, lasting: bool = False) -> None:
        self._unwritten += json.dumps(line).encode("utf-8", "surrogateescape") + b"\n"
        try:
            while self._unwritten:
                written = os.write(self._handle, self._unwritten)
                self._unwritten = self._unwritten[written:]
        except OSError as error:
            # on a full volume the line waits for the space that the cleaning makes
            if error.errno not in (errno.ENOSPC, errno.EDQUOT):
                raise
        if lasting:
            os.fsync(self._handle)

    def close(self) -> None:
        os.close(self._handle)

    def finish(self) -> None:
        """The result is safely spooled; the journal is no longer needed."""
        self.close()
        self._path.unlink(missing_ok=True)


def _gone(about: dict[str, Any]) -> list[int]:
    """The sizes of those items of a batch that are no longer there."""
    flags = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
    try:
        handle = os.open(about["root"], flags)
    except OSError:
        return []
    try:
        for name in about["folders"]:
            try:
                deeper = open_folder(name, handle)
            except FileNotFoundError:
                # the emptied folder itself has gone, and all that was in it
                return [size for _, size in about["names"]]
            except OSError:
                return []
            os.close(handle)
            handle = deeper
        present = set(os.listdir(handle))
    finally:
        os.close(handle)
    return [size for name, size in about["names"] if name not in present]

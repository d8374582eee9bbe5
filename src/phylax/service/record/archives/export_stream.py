"""An archive for somebody who asks: written down, made, and handed over bit by bit."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import IO, NamedTuple

from phylax.service.context.context import Context
from phylax.service.problems import Problem
from phylax.service.record import sealing
from phylax.service.record.archives import writing
from phylax.store.record import audit, records

_CLEAR = ".archive-"
"""How folders begin in which an archive lies while it is made."""
_PIECE = 1 << 18


class Made(NamedTuple):
    """An archive that has no name any more: it is gone when it was read."""

    size: int
    file: IO[bytes]

    def pieces(self) -> Iterator[bytes]:
        with self.file:
            while piece := self.file.read(_PIECE):
                yield piece


def make(context: Context, of: str, subject: str, who: str, client: int | None = None) -> Made:
    """One at a time. A problem where another is being made."""
    if not context.making_archive.acquire(blocking=False):
        raise Problem(409, "archive-under-way", "An archive is being made: try again in a while.")
    try:
        clear_halves(context)
        seal = sealing.make(context)
        proofs = _proofs(context, client, seal.note)
        with context.db.write() as conn:
            audit.record(conn, who=who, at=context.now(), action="take out", subject=subject)
        folder = Path(tempfile.mkdtemp(dir=context.db.path.parent, prefix=_CLEAR))
        try:
            path = folder / "archive.zip"
            with context.db.read() as conn:
                writing.write(conn, path, of, at=context.clock(), client=client, proofs=proofs)
            # whoever reads slowly keeps nobody waiting, and a kill leaves nothing behind
            return Made(path.stat().st_size, path.open("rb"))
        except OSError as error:
            raise Problem(
                507, "no-room", f"The archive could not be written: {error.strerror or error}."
            ) from error
        finally:
            shutil.rmtree(folder, ignore_errors=True)
    finally:
        context.making_archive.release()


def clear_halves(context: Context) -> None:
    """What one that was killed left behind."""
    for folder in context.db.path.parent.glob(f"{_CLEAR}*"):
        shutil.rmtree(folder, ignore_errors=True)


def _proofs(context: Context, client: int | None, note: str) -> dict[int, str]:
    """Of a client's entries, that they are in the record."""
    if client is None:
        return {}
    with context.db.read() as conn:
        numbers = [entry.record.id for entry in records.chain(conn, client)]
    return dict(zip(numbers, sealing.prove_all(context, numbers, note), strict=False))

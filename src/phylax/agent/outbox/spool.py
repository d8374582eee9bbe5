"""The spool: messages for the service, kept on disk until they are taken, oldest first.

A file for each message, written whole or not at all. A reserve is given up when the volume has no
byte or file number left, so that a result can be kept on the very disk that had to be cleaned.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Iterator
from pathlib import Path

from phylax.agent import files
from phylax.agent.outbox.merging import Single
from phylax.agent.platform.reserve import Reserve
from phylax.agent.platform.uptime import running
from phylax.core.protocol import Message, message_in

_NUMBER = re.compile(r"[0-9]{12}")
_log = logging.getLogger("phylax.agent")


class Spool:
    """A folder of messages. One process uses it at a time."""

    def __init__(self, folder: Path, reserve: Reserve | None = None) -> None:
        self._folder = folder
        self._refused = folder / "refused"
        folder.mkdir(parents=True, exist_ok=True)
        numbered = (path.stem for path in folder.glob("*.json"))
        last = max((int(stem) for stem in numbered if _NUMBER.fullmatch(stem)), default=0)
        self._next = last + 1
        self._reserve = reserve or Reserve(folder / "reserve")
        self._written: dict[str, float] = {}

    def tidy(self) -> None:
        """Throw away what was cut off while it was written. Only for who works here alone."""
        for cut_off in self._folder.glob("*.part"):
            if cut_off.is_file():
                cut_off.unlink()

    def put(self, message: Message) -> None:
        """Keep a message until it is taken; when this returns, it is on the disk."""
        text = message.model_dump_json().encode()
        path = self._folder / f"{self._next:012d}.json"
        self._reserve.lend(lambda: _write_whole(path, text))
        self._written[path.name] = running()
        self._next += 1

    def waiting(self) -> Iterator[Single]:
        """The messages not yet taken, oldest first. What is none, or one of another version that
        this one does not know, is put aside and costs only itself."""
        for path in sorted(self._folder.glob("*.json")):
            try:
                message = message_in(path.read_bytes())
            except (ValueError, IsADirectoryError) as error:
                _log.error("%s is no message that can be sent, and is put aside: %s", path, error)
                self.was_refused(path)
                continue
            yield Single(path, message, self._age(path))

    def _age(self, path: Path) -> float | None:
        """None where it was written before this agent started."""
        written = self._written.get(path.name)
        return None if written is None else running() - written

    def __len__(self) -> int:
        return sum(1 for _ in self._folder.glob("*.json"))

    def taken(self, path: Path) -> None:
        path.unlink(missing_ok=True)
        self._written.pop(path.name, None)
        self._reserve.keep()

    def was_refused(self, path: Path) -> None:
        """The service will never take it; it is put aside for a person to look at."""
        self._refused.mkdir(exist_ok=True)
        path.replace(self._refused / path.name)


def _write_whole(path: Path, text: bytes) -> None:
    part = path.with_suffix(".part")
    try:
        with part.open("wb") as file:
            files.step("write message")
            file.write(text)
            file.flush()
            files.sync(file.fileno())
        files.step("keep message")
        part.replace(path)
        # the name must be on the disk as well as what it names
        files.sync_folder_at(str(path.parent))
    except OSError:
        part.unlink(missing_ok=True)
        raise

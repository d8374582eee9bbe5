"""What the agent remembers of the service's records, to notice where they were set back."""

from __future__ import annotations

import logging
import uuid
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from pydantic import ValidationError

from phylax.agent.outbox.spool import Spool
from phylax.core.backups.restore_epochs import RestoreEpoch, met
from phylax.core.protocol import RestoredMessage

_FILE = "records.json"
_log = logging.getLogger("phylax.agent")


class KnownRecords:
    """The life of the records that this agent last met, in its folder."""

    def __init__(self, folder: Path, spool: Spool, tell_again: Callable[[], None]) -> None:
        """`tell_again` is called where what was told before may be lost."""
        self._path = folder / _FILE
        self._spool = spool
        self._tell_again = tell_again
        self._known = self._read()

    def hear(self, now: RestoreEpoch) -> None:
        """The service said which life its records are in."""
        known, change = self._known, met(self._known, now)
        if change.known == known:
            return
        if known is not None and change.lost:
            _log.warning("the service's records were set back; what is held is told again")
            try:
                # told again before it is known, so that a stop between loses nothing
                self._tell_again()
                if change.set_back:
                    self._say(known, now)
            except OSError:
                _log.exception("that is not noted; the next answer says so again")
                return
        self._known = change.known
        part = self._path.with_suffix(".part")
        # on a full volume the last note stays: an earlier one notices less, never wrongly
        with suppress(OSError):
            part.write_text(change.known.model_dump_json(), encoding="ascii")
            part.replace(self._path)

    def _say(self, known: RestoreEpoch, now: RestoreEpoch) -> None:
        self._spool.put(
            RestoredMessage(
                id=uuid.uuid4().hex,
                restore_epoch=known.name,
                known_event=known.come_to,
                newest_event=now.come_to,
            )
        )

    def _read(self) -> RestoreEpoch | None:
        try:
            return RestoreEpoch.model_validate_json(self._path.read_bytes())
        except (OSError, ValidationError):
            return None

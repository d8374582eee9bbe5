"""How the machine stands now, small enough to be compared with later."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime
from typing import Literal

from phylax.agent.outbox.spool import Spool
from phylax.agent.workers.crew import Crew
from phylax.core.protocol import SnapshotMessage
from phylax.core.protocol.snapshots import MOST_NAMED, Snapshot, StartsByItself


def take_snapshot(run_id: int, when: Literal["before", "after"], crew: Crew, spool: Spool) -> None:
    """It is in the spool when this returns. What cannot be read is said, and costs only itself."""
    machine, unread = crew.machine, ""
    programs: list[StartsByItself] = []
    try:
        programs = [
            StartsByItself(key=program.key, name=program.name, intent=program.now)
            for program in crew.tuned.programs()
            if not program.unread
        ]
    except (OSError, ValueError) as failure:
        said = failure.strerror if isinstance(failure, OSError) else str(failure)
        unread = (said or type(failure).__name__)[:400]
    try:
        usable, failed = machine.usable_after(), machine.failed_parts()
    except OSError:
        usable, failed = None, None
    snapshot = Snapshot(
        taken_at=datetime.now(UTC),
        boot=machine.boot(),
        usable=usable,
        programs=tuple(programs[:MOST_NAMED]),
        programs_unread=unread,
        failed=None if failed is None else tuple(failed),
        volumes=tuple(machine.volumes()),
    )
    # the same for the same work: begun anew, it is told once, as it was first
    spool.put(
        SnapshotMessage(
            id=f"{when}-{run_id}" if when == "before" else uuid.uuid4().hex,
            run_id=run_id,
            when=when,
            snapshot=snapshot,
        )
    )

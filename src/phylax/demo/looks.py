"""Looks at the demo's machines: what really lies on them now, and what looks found in the past."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from sqlite3 import Connection

from phylax.agent.config.guard import Guard
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.survey.surveyor import survey
from phylax.agent.survey.task import SurveyListener, SurveyTask
from phylax.core.checks.findings import Checked
from phylax.core.checks.kind import kinds
from phylax.core.ground.tally import Tally
from phylax.core.inventory import Inventory
from phylax.core.protocol import (
    CategoryRule,
    CheckedMessage,
    InventoryMessage,
    ListingMessage,
    Message,
    ResultMessage,
    SettingsMessage,
    SurveyMessage,
)
from phylax.core.protocol.trusted_time import by_clock_alone
from phylax.core.retention import ProtectEntry
from phylax.core.survey import Cover, Item, SurveyKind, SurveyLine, covers
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.programs import Program
from phylax.core.tuning.verdicts import Seen
from phylax.demo import scenario
from phylax.demo.tree import GIB
from phylax.store.retention import protections, rules

_A_PAGE = 500


@dataclass(frozen=True)
class LookedThrough:
    """What lies on a machine at the demo's now."""

    at: datetime
    lines: tuple[SurveyLine, ...]
    listed: dict[str, list[Item]]
    covers: tuple[Cover, ...] = ()
    programs: tuple[Program, ...] = ()
    values: tuple[Seen, ...] = ()
    checked: tuple[Checked, ...] = ()
    inventories: tuple[Inventory, ...] = ()
    grows: dict[str, float] = field(default_factory=dict)
    """Categories of people's own files that grow lately, GiB a day."""


class _Unhurried(StandInMachine):
    """The same machine, surveyed without the pretended slowness of its disk."""

    def pace(self, items: int) -> None:
        """No waiting while the demo is made."""


def look_through(
    conn: Connection, machine: StandInMachine, machine_id: int, now: datetime
) -> LookedThrough:
    quick = _Unhurried(machine.folder)
    listed: dict[str, list[Item]] = {}
    in_force = tuple(
        CategoryRule(category=key, rule=rule)
        for key, rule in rules.in_force_on(conn, machine_id).items()
    )
    entries = tuple(row.entry for row in protections.in_force_on(conn, machine_id))
    there: set[ProtectEntry] = set()
    lines = survey(
        quick,
        Guard(quick),
        SurveyTask(in_force, by_clock_alone(now.timestamp()), entries),
        SurveyListener(
            there=there.add,
            listing=lambda key, item: listed.setdefault(key, []).append(item),
        ),
    )
    spec = next(spec for spec in scenario.MACHINES if spec.tag == machine.folder.name)
    lately = spec.volumes[0].lately
    # five days of seven
    grows = {"own-folders": lately[1] * 5 / 7} if lately else {}
    covered = covers(entries, lines, there)
    programs = tuple(machine.programs())
    at = now - timedelta(minutes=30)
    values = tuple(machine.values())
    came = [
        came
        for key, kind in kinds().items()
        for came in quick.check(key, kind.usual_mode, lambda done=0, of=None: None)
    ]
    checked = tuple(
        check.model_copy(update={"started_at": at, "ended_at": at})
        for check in came if isinstance(check, Checked)
    )  # fmt: skip
    inventories = tuple(
        listed.model_copy(update={"taken_at": at}) for listed in came
        if not isinstance(listed, Checked)
    )  # fmt: skip
    return LookedThrough(
        at, tuple(lines), listed, covered, programs, values, checked, inventories, grows
    )


def as_it_came_in(look: LookedThrough, run_id: int) -> Iterator[Message]:
    """The messages of a survey's run."""
    for key, items in look.listed.items():
        for start in range(0, len(items), _A_PAGE):
            yield ListingMessage(
                id=uuid.uuid4().hex,
                run_id=run_id,
                survey_kind=SurveyKind.FIRST,
                category=key,
                first_number=start + 1,
                items=tuple(items[start : start + _A_PAGE]),
            )
    started = look.at - timedelta(seconds=20)
    yield _survey(run_id, SurveyKind.FIRST, started, look.at, look.lines, look.covers)
    settings = SettingsSurvey(taken_at=look.at, programs=look.programs, values=look.values)
    yield SettingsMessage(id=uuid.uuid4().hex, run_id=run_id, look=settings)
    yield CheckedMessage(id=uuid.uuid4().hex, run_id=run_id, checked=look.checked)
    for inventory in look.inventories:
        yield InventoryMessage(id=uuid.uuid4().hex, run_id=run_id, inventory=inventory)
    yield ResultMessage(id=uuid.uuid4().hex, run_id=run_id, started_at=started, ended_at=look.at)


def looks_around(
    look: LookedThrough, run_id: int, began: datetime, ended: datetime, freed: int
) -> Iterator[SurveyMessage]:
    """What the surveys before and after a cleaning of the past found.

    What a cleaning of the past took is laid on the categories it cleaned; people's own files were
    fewer by what they grew since; all else was as it is now.
    """
    yield _survey(
        run_id, SurveyKind.FIRST, began - timedelta(minutes=1), began, _then(look, began, freed)
    )
    yield _survey(
        run_id, SurveyKind.SECOND, ended - timedelta(seconds=30), ended, _then(look, ended, 0)
    )


def _then(look: LookedThrough, at: datetime, gathered: int) -> tuple[SurveyLine, ...]:
    lines = []
    for line in look.lines:
        holds = line.total.size
        goes = line.removable.size
        if share := scenario.HISTORY.get(line.category):
            # a tenth of what gathers is too young, or in use
            goes = int(share * gathered)
            holds = int(holds * 0.1) + goes
        elif rate := look.grows.get(line.category):
            holds = max(0, holds - int((look.at - at).total_seconds() / 86400 * rate * GIB))
            goes = min(goes, holds)
        lines.append(
            line.model_copy(
                update={
                    "total": Tally(count=max(1, holds // (3 * 2**20)), size=holds),
                    "removable": Tally(count=goes // (3 * 2**20), size=goes),
                    "kept": (),
                    "ages": (),
                    "ranked": (),
                    "largest": (),
                }
            )
        )
    return tuple(lines)


def _survey(
    run_id: int,
    look: SurveyKind,
    started: datetime,
    ended: datetime,
    lines: tuple[SurveyLine, ...],
    covered: tuple[Cover, ...] | None = None,
) -> SurveyMessage:
    return SurveyMessage(
        id=uuid.uuid4().hex,
        run_id=run_id,
        survey_kind=look,
        started_at=started,
        ended_at=ended,
        lines=lines,
        covers=covered,
    )

"""A survey of an order: everyone's part of it, shown while it goes on, kept when it is whole."""

from __future__ import annotations

import errno
import uuid
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime

from phylax.agent.outbox.progress import Pages, Parts
from phylax.agent.outbox.sending import Sender
from phylax.agent.platform.clock import Clock
from phylax.agent.runtime.reporter import OrderListener
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.agent.survey.task import SurveyListener, SurveyTask
from phylax.agent.workers.crew import Crew
from phylax.client import RefusedError, UnreachableError
from phylax.core.protocol import CleanOrder, SettingsMessage, Step, SurveyMessage, SurveyOrder
from phylax.core.retention import ProtectEntry
from phylax.core.survey import SurveyKind, SurveyLine, covers, merged
from phylax.core.tuning.looks import MOST_PROGRAMS, MOST_VALUES, SettingsSurvey
from phylax.core.tuning.setting import settings as all_settings
from phylax.core.tuning.verdicts import Seen

_STEPS: dict[SurveyKind, Step] = {SurveyKind.FIRST: "look", SurveyKind.SECOND: "second look"}


def look_through(
    order: SurveyOrder | CleanOrder,
    look: SurveyKind,
    crew: Crew,
    clock: Clock,
    sender: Sender,
    listener: OrderListener,
) -> list[SurveyLine]:
    """The survey's lines; they are in the spool when this returns. Raises Stopped and ShutDown."""
    started = datetime.now(UTC)
    pages = Pages(sender.spool, order.run_id, look)
    parts = Parts(sender.report_now, order.run_id, look, started)
    watch = listener.watcher(_STEPS[look], order.expected)
    surveyed: list[SurveyLine] = []
    there: set[ProtectEntry] = set()
    parties, conditions = crew.parties(), crew.conditions()
    hears = SurveyListener(watch, pages.add, there=there.add)
    if len(parties) == 1:
        # a category that several have a part of is shown when all of them were looked at
        hears = replace(hears, part=parts.add)
    for party in parties:
        task = SurveyTask(
            order.rules, clock.believed(), order.protect, order.volumes, remember=True
        )
        surveyed += party.look(task, hears)
    lines = merged(surveyed)
    pages.send()
    sender.spool.put(
        SurveyMessage(
            id=uuid.uuid4().hex,
            run_id=order.run_id,
            survey_kind=look,
            started_at=started,
            ended_at=datetime.now(UTC),
            lines=tuple(lines),
            # what an entry covers is only known where everything was looked at
            covers=covers(order.protect, lines, there) if order.volumes.is_all else None,
            conditions=conditions,
        )
    )
    # sent along the way, so that people see it; if not now, then with the result
    with suppress(UnreachableError, RefusedError):
        sender.send_spooled()
    return lines


def look_at_settings(run_id: int, crew: Crew, sender: Sender, settings: SettingsRun) -> None:
    """Startup programs on the machine, and what somebody altered of what we set; it is in the
    spool when this returns.

    What cannot be read is said, and never taken for nothing.
    """
    at = datetime.now(UTC)
    try:
        programs = crew.tuned.programs()[:MOST_PROGRAMS]
        values = _values(crew)
        look = SettingsSurvey(
            taken_at=at,
            programs=tuple(map(crew.guarded, programs)),
            values=values,
            drifted=settings.drifted(programs, values),
        )
    except (OSError, ValueError) as failure:
        why = failure.strerror if isinstance(failure, OSError) else str(failure)
        look = SettingsSurvey(taken_at=at, unread=(why or type(failure).__name__)[:500])
    sender.spool.put(SettingsMessage(id=uuid.uuid4().hex, run_id=run_id, look=look))


def _values(crew: Crew) -> tuple[Seen, ...]:
    """Settings of one value; none where this kind of machine has no way to ask."""
    try:
        values = crew.tuned.values()[:MOST_VALUES]
    except OSError as failure:
        if failure.errno != errno.ENOTSUP:
            raise
        return ()
    if not crew.tuned.on_battery():
        return tuple(values)
    plugged_in = {key for key, setting in all_settings().items() if setting.plugged_in}
    return tuple(
        seen.model_copy(update={"on_battery": True}) if seen.key in plugged_in else seen
        for seen in values
    )

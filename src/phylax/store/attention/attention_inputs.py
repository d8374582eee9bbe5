"""How machines stand: what attention looks at, read without walking any history."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import date
from sqlite3 import Connection
from zoneinfo import ZoneInfo

from pydantic import TypeAdapter

from phylax.core.attention import SILENT_AFTER, SOON, HeldOn, MachineCondition, MadeWorse
from phylax.core.attention.kept_young import KeptYoung, kept_young
from phylax.core.checks.kept import OpenFindings, open_findings, uncovered
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds
from phylax.core.survey import Survey
from phylax.core.trends import Outlook
from phylax.core.tuning.changes import ChangeState
from phylax.store.checks import checks, inventories
from phylax.store.clients import shop
from phylax.store.desk import parts as desk
from phylax.store.runs import runs
from phylax.store.survey import repeat_leftovers
from phylax.store.trends import outlooks
from phylax.store.tuning import program_looks, settings_changes, starts

UNDONE_FOR = 14 * 86_400
"""Seconds for which a change that undid itself needs somebody."""
GONE_AFTER = 20 * 60
"""Seconds that a restart may take before somebody has to look."""
_KEPT_YOUNG = TypeAdapter(tuple[KeptYoung, ...])


def candidates(conn: Connection, *, at: int, newest_agent: str) -> set[int]:
    """The machines of which something might need a person, or does so far."""
    rows = conn.execute(
        """
        SELECT m.id
        FROM machines m
        JOIN clients c ON c.id = m.client_id
        JOIN shop
        LEFT JOIN runs r ON r.id = m.last_run_id
        LEFT JOIN agents a ON a.machine_id = m.id
        WHERE m.seen_at < :silent
           OR r.state IN ('failed', 'missed', 'partly')
           OR m.clock_off <> 0
           OR m.clock_doubt <> ''
           OR m.kept_young IS NOT NULL
           OR a.version <> :newest_agent
           OR json_extract(m.needs_approval, '$.count') > 0
           OR EXISTS (SELECT 1 FROM volumes v WHERE v.machine_id = m.id AND v.gone_at IS NULL
                      AND 100 * (v.capacity - v.free)
                        > coalesce(m.threshold_percent, c.threshold_percent, shop.threshold_percent)
                          * v.capacity)
        UNION SELECT machine_id FROM repeat_leftovers WHERE occurrences >= 5
        UNION SELECT machine_id FROM outlooks WHERE crosses_at < :soon
        UNION SELECT machine_id FROM outlooks WHERE changed_pace
        UNION SELECT machine_id FROM settings_surveys WHERE waiting > 0
        UNION SELECT machine_id FROM trials WHERE outcome = 'made it worse'
        UNION SELECT machine_id FROM changes WHERE drifted_at IS NOT NULL
        UNION SELECT machine_id FROM changes
              WHERE state = 'undone by the machine' AND ended_at > :undone
        UNION SELECT machine_id FROM checks WHERE result = 'findings' AND settled_at IS NULL
        UNION SELECT u.machine_id FROM missing_updates u CROSS JOIN shop
              WHERE u.security AND u.since < :now - 86400 * shop.security_days
        UNION SELECT machine_id FROM runs
              WHERE state IN ('offered', 'running') AND lease_until < :now
        UNION SELECT machine_id FROM visits WHERE closed_at IS NULL
        UNION SELECT machine_id FROM attention WHERE ended_at IS NULL
        """,
        {
            "silent": at - int(SILENT_AFTER.total_seconds()),
            "soon": at + int(SOON.total_seconds()),
            "newest_agent": newest_agent,
            "undone": at - UNDONE_FOR,
            "now": at,
        },
    )
    return {row[0] for row in rows}


def standings(
    conn: Connection, machine_ids: Iterable[int], *, at: int, newest_agent: str
) -> list[MachineCondition]:
    """How some machines stand."""
    machines = [
        machine
        for machine in shop.machines_by_id(conn, sorted(machine_ids))
        if machine.retired_at is None
    ]
    ids = json.dumps([machine.id for machine in machines])
    rows = conn.execute(
        """
        SELECT m.id, m.removable, m.needs_approval, m.surveyed_at, m.last_run_id, m.missed_in_a_row,
               m.kept_young
        FROM json_each(?) wanted JOIN machines m ON m.id = wanted.value
        """,
        (ids,),
    ).fetchall()
    stand = {row["id"]: row for row in rows}
    left = repeat_leftovers.often(conn)
    last = runs.runs_by_id(conn, json.dumps([row["last_run_id"] for row in rows]))
    outlooks_of: dict[int, list[Outlook]] = {}
    for outlook in outlooks.of_machines(conn, [machine.id for machine in machines]):
        outlooks_of.setdefault(outlook.machine_id, []).append(outlook)
    held = _held(conn, ids)
    machine_ids = [machine.id for machine in machines]
    telling = settings_changes.told_lately(conn, machine_ids, since=at - UNDONE_FOR)
    worse = starts.made_worse(conn, machine_ids)
    programs_wait = program_looks.waiting(conn, machine_ids)
    findings: dict[int, list[OpenFindings]] = {}
    for kept in uncovered(checks.newest(conn, machine_ids, could_look=True)):
        if open_one := open_findings(kept):
            findings.setdefault(kept.machine_id, []).append(open_one)
    (security_days,) = conn.execute("SELECT security_days FROM shop").fetchone()
    overdue = inventories.overdue(conn, machine_ids, before=at - 86400 * security_days)
    gone = runs.not_back(conn, machine_ids, before=at - GONE_AFTER)
    in_hand = desk.in_hand(conn, machine_ids, today=_shops_day(conn, at))
    awake_since = _awake_since(conn, at)
    return [
        MachineCondition(
            machine=machine,
            now=from_seconds(at),
            threshold_percent=machine.limit_percent,
            last_run=last.get(row["last_run_id"]),
            missed_in_a_row=row["missed_in_a_row"],
            removable=row["removable"] and Tally.model_validate_json(row["removable"]),
            needs_approval=row["needs_approval"]
            and Tally.model_validate_json(row["needs_approval"]),
            surveyed_at=row["surveyed_at"] and from_seconds(row["surveyed_at"]),
            left_often=left.get(machine.id),
            kept_young=_KEPT_YOUNG.validate_json(row["kept_young"] or "[]"),
            outlooks=tuple(outlooks_of.get(machine.id, ())),
            held=tuple(held.get(machine.id, ())),
            undone=tuple(c for c in telling.get(machine.id, ()) if c.state is ChangeState.UNDONE),
            altered=tuple(c for c in telling.get(machine.id, ()) if c.drifted_at is not None),
            programs_wait=programs_wait.get(machine.id, 0),
            findings=tuple(findings.get(machine.id, ())),
            overdue=overdue.get(machine.id),
            gone_since=gone[machine.id][1] if machine.id in gone else None,
            gone_run_id=gone[machine.id][0] if machine.id in gone else None,
            made_worse=tuple(
                MadeWorse(run_id=run_id, programs=names, judged=judged, since=from_seconds(since))
                for number, run_id, names, judged, since in worse
                if number == machine.id
            ),
            open_visit=in_hand.get(machine.id),
            awake_since=awake_since and from_seconds(awake_since),
            newest_agent=newest_agent,
        )
        for machine in machines
        if (row := stand[machine.id])
    ]


def _shops_day(conn: Connection, at: int) -> date:
    (zone,) = conn.execute("SELECT zone FROM shop").fetchone()
    return from_seconds(at).astimezone(ZoneInfo(zone)).date()


def _held(conn: Connection, ids: str) -> dict[int, list[HeldOn]]:
    """What holds keep on each volume of some machines."""
    held_by_machine: dict[int, list[HeldOn]] = {}
    for row in conn.execute(
        """
        SELECT h.machine_id, h.mount, cast(total(h.held_size) AS INTEGER) AS size,
               min(h.held_at) AS since, max(h.expires_at) AS until
        FROM json_each(?) wanted
        CROSS JOIN holds h ON h.machine_id = wanted.value AND h.held_count > 0
        GROUP BY h.machine_id, h.mount
        """,
        (ids,),
    ):
        held = HeldOn(
            mount=row["mount"],
            size=row["size"],
            since=from_seconds(row["since"]),
            until=from_seconds(row["until"]),
        )
        held_by_machine.setdefault(row["machine_id"], []).append(held)
    return held_by_machine


def _awake_since(conn: Connection, at: int) -> int | None:
    """The end of the last break in which agents could not reach the service for long."""
    row = conn.execute(
        """
        SELECT max(ended_at) FROM outages
        WHERE began_at > :at - 35 * 86400 AND ended_at - began_at > 3600
        """,
        {"at": at},
    ).fetchone()
    return row[0] if row else None


def note_kept_young(conn: Connection, survey: Survey) -> None:
    """What a survey found kept young by its attributes alone, and since when."""
    number = survey.machine_id
    row = conn.execute("SELECT kept_young FROM machines WHERE id = ?", (number,)).fetchone()
    young = kept_young(survey, _KEPT_YOUNG.validate_json(row[0] or "[]"))
    text = _KEPT_YOUNG.dump_json(young).decode() if young else None
    conn.execute("UPDATE machines SET kept_young = ? WHERE id = ?", (text, number))

"""Making the demo shop's data directory: deterministic, dated relative to a given now."""

from __future__ import annotations

import os
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from pathlib import Path
from random import Random
from sqlite3 import Connection
from zoneinfo import ZoneInfo

from phylax.agent.config.home import AgentConfig, AgentHome
from phylax.agent.machines.standin import StandInMachine
from phylax.core.clients.shop import ClientEdit, ClosingDaysEdit, MachineEdit, ShopEdit
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import to_seconds
from phylax.core.people.accounts import TokenScope
from phylax.core.protocol import (
    CategoryOutcome,
    ResultMessage,
)
from phylax.core.record.records import Entry, RecordKind
from phylax.core.retention import Scope
from phylax.core.runs.runs import NewRoutineRuns, Run, RunState
from phylax.core.scheduling.missed import MissedCause, because
from phylax.core.scheduling.rounds import Postponed, Pressure, RoundEdit
from phylax.core.scheduling.routines import StepState, StepTick
from phylax.demo import in_full, in_hand, scenario, startup
from phylax.demo.history import Freed, Occurrence, Point, occurrences_of, volume_history
from phylax.demo.looks import LookedThrough, as_it_came_in, look_through, looks_around
from phylax.demo.standins import build
from phylax.demo.tree import GIB
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.http.auth import new_secret
from phylax.service.limits.hashing import hash_password
from phylax.service.rounds import planning
from phylax.service.runs import checklist, create, ingest
from phylax.service.runs.finish import give_up
from phylax.service.scheduling.timetable import place_all, place_round
from phylax.service.serving.serve import FILE
from phylax.store.attention import notices
from phylax.store.clients import agents, closing_days, shop
from phylax.store.file.database import Database
from phylax.store.people import people
from phylax.store.record import records
from phylax.store.retention import protections, rules
from phylax.store.runs import runs, steps
from phylax.store.scheduling import presence, rounds, routines
from phylax.store.trends import readings

SEED = 8610
_LOOKED_BACK = timedelta(days=scenario.LOOKED_BACK_DAYS)
READINGS_EVERY = 30


@dataclass(frozen=True)
class _Deed:
    """Something that happened, to be written down in the order of time."""

    at: datetime
    machine: str
    note: scenario.NoteSpec | None = None
    occurrence: Occurrence | None = None
    freed: tuple[tuple[scenario.VolumeSpec, Freed], ...] = ()


def make(folder: Path, now: datetime, url: str, *, lives_in: Path) -> None:
    """Make the whole demo in an empty folder, from where it is moved to live; takes seconds."""
    now = now.replace(minute=0, second=0, microsecond=0)
    zone = ZoneInfo(scenario.ZONE)
    database = Database(folder / FILE)
    try:
        with database.write() as conn:
            _open_shop(conn, folder, now)
            machine_ids = _take_in(conn, now)
            round_ids = _make_rounds(conn, machine_ids, now, zone)
            _close(conn, now, zone)
            _set_rules(conn, machine_ids, now)
            _protect(conn, machine_ids, now)
            known = shop.clients(conn, after=0, limit=100)
            startup.write_down(conn, {client.name: client.id for client in known}, now)
            actions = [
                _Deed(now - timedelta(days=note.days_ago), note.machine, note=note)
                for note in scenario.NOTES
            ]
            for spec in scenario.MACHINES:
                actions += _live_through(conn, spec, machine_ids[spec.tag], now, zone)
            looks = {
                spec.tag: _set_up(conn, folder, spec, machine_ids[spec.tag], now, url, lives_in)
                for spec in scenario.MACHINES
            }
            for action in sorted(actions, key=lambda d: d.at):
                look = looks[action.machine] if now - action.at < _LOOKED_BACK else None
                _write_down(conn, action, machine_ids[action.machine], round_ids, look)
            for spec in scenario.MACHINES:
                _look_through(conn, looks[spec.tag], machine_ids[spec.tag])
                _was_on(conn, spec, machine_ids[spec.tag], now, zone)
            in_hand.take_in(conn, machine_ids, now)
            in_hand.print_papers(conn, now)
            _on_bench(conn, machine_ids, now)
            _skip(conn, machine_ids, round_ids, now)
            presence.note_awake(conn, at=to_seconds(now))
        monitor.whole(Context(database, lambda: now))
    finally:
        database.close()


def _open_shop(conn: Connection, folder: Path, now: datetime) -> None:
    began = to_seconds(now - timedelta(days=410))
    shop.open_shop(conn, ShopEdit(name=scenario.SHOP, zone=scenario.ZONE), is_demo=True)
    hashed = hash_password(scenario.PASSWORD)
    for login, name, role in scenario.PEOPLE:
        people.add(conn, login, name, role, hashed, at=began)
    for login, wishes in scenario.WISHES:
        known = people.by_login(conn, login)
        assert known is not None
        notices.put_wishes(conn, known[0].id, wishes, who=known[0].name, at=began)
    owner = people.by_login(conn, "ines")
    assert owner is not None
    token, token_hash = new_secret("phylax")
    people.add_token(
        conn, token_hash, owner[0].id, "demo", TokenScope.EVERYTHING, at=to_seconds(now), until=None
    )
    write_secret(folder / "owner.token", token)


def write_secret(path: Path, secret: str) -> None:
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w", encoding="ascii") as file:
        file.write(secret + "\n")


def _take_in(conn: Connection, now: datetime) -> dict[str, int]:
    """Clients and machines; machine numbers by tag."""
    at = to_seconds(now - timedelta(days=402))
    client_ids = {
        name: shop.add_client(
            conn,
            ClientEdit(
                name=name,
                contact=contact,
                mail=mail,
                at_once=scenario.AT_ONCE.get(name),
                **in_full.CLIENTS.get(name, {}),
            ),
            who="Petra Lund",
            at=at,
        )
        for name, contact, mail in scenario.CLIENTS
    }
    return {
        spec.tag: shop.add_machine(
            conn,
            MachineEdit(
                tag=spec.tag,
                client_id=client_ids[spec.client],
                system=spec.system,
                make=spec.make,
                model=spec.model,
                memory=spec.memory * GIB,
                note=spec.story,
                **in_full.MACHINES.get(spec.tag, {}),
            ),
            who="Petra Lund",
            at=at,
        )
        for spec in scenario.MACHINES
    }


def _make_rounds(
    conn: Connection, machine_ids: dict[str, int], now: datetime, zone: ZoneInfo
) -> dict[str, int]:
    made = {}
    at = to_seconds(now)
    routines.ship(conn, at=at)
    for routine in scenario.ROUTINES:
        routines.add(conn, routine, who="Ines Marrow", at=at)
    routine_ids = {
        routine.name: routine.id for routine in routines.routines(conn, after=0, limit=100)
    }
    client_ids = {client.name: client.id for client in shop.clients(conn, after=0, limit=100)}
    person_ids = {person.name: person.id for person in people.everyone(conn)}
    for spec in scenario.ROUNDS:
        began = (now - timedelta(days=spec.began_days_ago)).astimezone(zone).date()
        edit = RoundEdit(
            name=spec.name,
            routine_id=routine_ids[spec.routine],
            recurrence=spec.recurrence,
            at=time.fromisoformat(spec.at),
            closes=time.fromisoformat(spec.closes) if spec.closes else None,
            starts_on=date(began.year, began.month, began.day),
            catch_up=spec.catch_up,
            client_ids=tuple(client_ids[name] for name in spec.clients),
            machine_ids=() if spec.clients else tuple(machine_ids[tag] for tag in spec.machines),
            pressure=spec.below_percent and Pressure(below_percent=spec.below_percent),
            responsible_id=person_ids[spec.responsible_id],
        )
        made[spec.name] = rounds.add(conn, edit, who="Ines Marrow", at=at)
        place_round(conn, made[spec.name], edit, at=at)
    return made


def _close(conn: Connection, now: datetime, zone: ZoneInfo) -> None:
    today = now.astimezone(zone).date()
    client_ids = {client.name: client.id for client in shop.clients(conn, after=0, limit=100)}
    for spec in scenario.CLOSED:
        first = today + timedelta(days=spec.first_in)
        edit = ClosingDaysEdit(
            client_id=client_ids[spec.client] if spec.client else None,
            first=first,
            last=first + timedelta(days=spec.days - 1),
            name=spec.name,
        )
        closing_days.add(conn, edit, who="Petra Lund", at=to_seconds(now))
    place_all(conn, at=to_seconds(now))


def _was_on(
    conn: Connection, spec: scenario.MachineSpec, machine_id: int, now: datetime, zone: ZoneInfo
) -> None:
    """The hours of the last weeks in which the machine was on."""
    hours = (now - timedelta(hours=n) for n in range(1, 12 * 168))
    presence.note(
        conn, machine_id, [to_seconds(at) for at in hours if spec.on(at.astimezone(zone))]
    )


def _on_bench(conn: Connection, machine_ids: dict[str, int], now: datetime) -> None:
    """A machine on the bench, its list begun."""
    tag, name, who = scenario.ON_BENCH
    at = to_seconds(now) - 5400
    listed = routines.routines(conn, after=0, limit=100)
    routine = next(known for known in listed if known.name == name)
    new = NewRoutineRuns(machine_ids=(machine_ids[tag],), on_bench=True)
    (run,) = create.make_routines(conn, routine, new, who=who, at=at)
    edit = StepTick(comment="the reading lists on the desktop must stay")
    checklist.tick(conn, run, 1, edit, who=who, at=at + 600)


def _skip(
    conn: Connection, machine_ids: dict[str, int], round_ids: dict[str, int], now: datetime
) -> None:
    name, tag, word = scenario.SKIPPED
    round_ = rounds.round_(conn, round_ids[name])
    assert round_ is not None
    asked = Postponed(machine_id=machine_ids[tag], comment=word)
    planning.postpone(conn, round_, asked, who="Tobias Quill", at=to_seconds(now))


def _number(conn: Connection, machine_ids: dict[str, int], scope: Scope, subject: str) -> int:
    """The number of whom a rule or a protection is for."""
    match scope:
        case Scope.CLIENT:
            clients = shop.clients(conn, after=0, limit=100)
            return next(client.id for client in clients if client.name == subject)
        case Scope.MACHINE:
            return machine_ids[subject]
    return 0


def _set_rules(conn: Connection, machine_ids: dict[str, int], now: datetime) -> None:
    for spec in scenario.RULES:
        rules.put(
            conn,
            spec.scope,
            _number(conn, machine_ids, spec.scope, spec.subject),
            spec.category,
            spec.rule,
            who="Ines Marrow",
            at=to_seconds(now - timedelta(days=100)),
        )


def _protect(conn: Connection, machine_ids: dict[str, int], now: datetime) -> None:
    for spec in scenario.PROTECTED:
        protections.add(
            conn,
            spec.scope,
            _number(conn, machine_ids, spec.scope, spec.subject),
            spec.entry,
            spec.note,
            who="Tobias Quill",
            at=to_seconds(now - timedelta(days=90)),
        )


def _live_through(
    conn: Connection,
    spec: scenario.MachineSpec,
    machine_id: int,
    now: datetime,
    zone: ZoneInfo,
) -> list[_Deed]:
    """A machine's readings go into the store; its occurrences are returned."""
    random = Random(f"{SEED} {spec.tag}")
    happened = [
        occurrence
        for round_ in scenario.ROUNDS
        if spec.tag in round_.machines
        for occurrence in occurrences_of(spec, round_, now, zone, random)
    ]
    histories: list[tuple[scenario.VolumeSpec, list[Point], list[Freed]]] = []
    for volume in spec.volumes:
        points, freed = volume_history(spec, volume, happened, now, zone, random)
        histories.append((volume, points, freed))
        first = _reading(volume, points[0].free, points[0].at)
        readings.add(conn, machine_id, by_volume([first]))
        volume_id = conn.execute(
            "SELECT id FROM volumes WHERE machine_id = ? AND mount = ?", (machine_id, volume.mount)
        ).fetchone()[0]
        capacity = int(volume.capacity * GIB)
        times, free = [to_seconds(p.at) for p in points], [p.free for p in points]
        readings.add_points(conn, volume_id, capacity, times, free)
        last = _reading(volume, points[-1].free, points[-1].at)
        readings.add(conn, machine_id, by_volume([last]))
    actions = []
    for occurrence in happened:
        freed_here = tuple(
            (volume, jump)
            for volume, _, jumps in histories
            for jump in jumps
            if jump.at == occurrence.done_at and jump.round_name == occurrence.round_name
        )
        ended = occurrence.done_at or occurrence.due_at + timedelta(hours=3)
        actions.append(_Deed(ended, spec.tag, occurrence=occurrence, freed=freed_here))
    return actions


def _reading(volume: scenario.VolumeSpec, free: int, at: datetime) -> ReadingIn:
    return ReadingIn(
        mount=volume.mount,
        capacity=int(volume.capacity * GIB),
        free=free,
        at=at,
        file_system=volume.file_system,
        disk=volume.disk,
    )


def _write_down(
    conn: Connection,
    action: _Deed,
    machine_id: int,
    round_ids: dict[str, int],
    look: LookedThrough | None,
) -> None:
    """A note, or an occurrence with its run and record, as they would have come in."""
    if action.note is not None:
        entry = Entry(
            machine_id=machine_id,
            at=action.at,
            who=action.note.who,
            kind=RecordKind.NOTE,
            text=action.note.text,
        )
        records.append(conn, entry)
        return
    occurrence = action.occurrence
    assert occurrence is not None
    spec = next(r for r in scenario.ROUNDS if r.name == occurrence.round_name)
    round_ = rounds.round_(conn, round_ids[spec.name])
    assert round_ is not None
    waiting = runs.Waiting(
        machine_id,
        "clean",
        tuple(scenario.HISTORY),
        spec.name,
        due_at=to_seconds(occurrence.due_at),
        start_before=to_seconds(occurrence.due_at + spec.catch_up),
        round_id=round_ids[spec.name],
        expected=_expected(action),
        routine=(round_.plan.routine_id, 1),
    )
    run_id = runs.add(conn, waiting, at=to_seconds(occurrence.due_at))
    assert run_id is not None
    run = runs.run(conn, run_id)
    assert run is not None
    if occurrence.done_at is None:
        why = because(MissedCause.OFF)
        give_up(conn, run, RunState.MISSED, why.words, at=to_seconds(action.at), cause=why.cause)
        return
    _lay_out(conn, run, at=to_seconds(action.at))
    if look is not None:
        for message in looks_around(
            look, run_id, action.at, action.at + _takes(action), _freed(action)
        ):
            ingest.apply(conn, machine_id, message, at=to_seconds(message.ended_at))
    ingest.apply(conn, machine_id, _result(action, run_id), at=to_seconds(action.at))


def _lay_out(conn: Connection, run: Run, *, at: int) -> None:
    """A past run's steps: all of its long work is over, its cleaning is under way."""
    all_ = checklist.of(conn, run)
    steps.lay_out(conn, run.id, all_)
    for step in all_:
        if step.kind.is_alone:
            word = "nothing found" if step.kind.checks else "nothing to do"
            steps.put(conn, run.id, [step.number], StepState.DONE, at=at, by="the agent", word=word)
    checklist.begin_part(conn, run, None, at=at)


def _freed(action: _Deed) -> int:
    return sum(jump.after - jump.before for _, jump in action.freed)


def _expected(action: _Deed) -> Tally:
    freed = _freed(action)
    return Tally(count=max(1, freed // (3 * 1024**2)), size=int(freed * 1.02))


def _result(action: _Deed, run_id: int) -> ResultMessage:
    freed = _freed(action)
    ended = action.at + _takes(action)
    return ResultMessage(
        id=f"demo-{run_id:08d}",
        run_id=run_id,
        started_at=action.at,
        ended_at=ended,
        passes=1,
        outcomes=tuple(
            CategoryOutcome(
                category=key,
                removed=Tally(
                    count=max(1, int(share * freed) // (3 * 1024**2)), size=int(share * freed)
                ),
            )
            for key, share in scenario.HISTORY.items()
        ),
        before=tuple(_reading(v, jump.before, action.at) for v, jump in action.freed),
        after=tuple(_reading(v, jump.after, ended) for v, jump in action.freed),
    )


def _takes(action: _Deed) -> timedelta:
    """A few minutes; three times as long on a disk that turns."""
    spec = next(spec_ for spec_ in scenario.MACHINES if spec_.tag == action.machine)
    seconds = 180 + action.at.day * 4
    return timedelta(seconds=3 * seconds if spec.volumes[0].disk == "spinning" else seconds)


def _set_up(
    conn: Connection,
    folder: Path,
    spec: scenario.MachineSpec,
    machine_id: int,
    now: datetime,
    url: str,
    lives_in: Path,
) -> LookedThrough:
    """The machine's stand-in, its enrolled agent; a look at what really lies there."""
    standin = folder / "machines" / spec.tag
    standin.mkdir(parents=True)
    build(standin, spec, now, Random(f"{SEED} tree {spec.tag}"))
    machine = StandInMachine(standin)
    key, key_hash = new_secret("agent")
    agents.enrol(conn, machine_id, key_hash, machine.facts(), at=to_seconds(now))
    AgentHome(folder / "agents" / spec.tag).save(
        AgentConfig(
            url=url,
            tag=spec.tag,
            machine_id=machine_id,
            kind="standin",
            standin=str((lives_in / "machines" / spec.tag).resolve()),
            readings_every=READINGS_EVERY,
        ),
        key,
    )
    seen = now if spec.live else _last_on(spec, now)
    conn.execute("UPDATE machines SET seen_at = ? WHERE id = ?", (to_seconds(seen), machine_id))
    return look_through(conn, machine, machine_id, now)


def _last_on(spec: scenario.MachineSpec, now: datetime) -> datetime:
    at = now
    while not spec.on(at.astimezone(ZoneInfo(scenario.ZONE))):
        at -= timedelta(hours=1)
    return at


def _look_through(conn: Connection, look: LookedThrough, machine_id: int) -> None:
    """The newest survey at a machine comes in."""
    at = to_seconds(look.at)
    run_id = runs.add(conn, runs.Waiting(machine_id, "survey", (), "Tobias Quill"), at=at - 60)
    assert run_id is not None
    for message in as_it_came_in(look, run_id):
        ingest.apply(conn, machine_id, message, at=at)

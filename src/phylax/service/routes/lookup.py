"""Finding what a path names, or the problem that it is not there."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from sqlite3 import Connection
from typing import NamedTuple
from zoneinfo import ZoneInfo

from phylax.core.clients.shop import Client, Machine, Volume
from phylax.core.ground.values import to_seconds
from phylax.core.hold.holds import Hold
from phylax.core.record.searching import Search
from phylax.core.runs.runs import Run
from phylax.core.survey import Survey
from phylax.service.context.context import the_shop
from phylax.service.problems import Problem, invalid, not_found
from phylax.store.clients import forgettings, shop
from phylax.store.erasing import forgotten
from phylax.store.runs import holds, runs
from phylax.store.survey import surveys


def find_machine(conn: Connection, which: str) -> Machine:
    """A machine by its number or its tag."""
    if which.isdecimal() and len(which) < 18:
        machine = shop.machine(conn, int(which))
        # given before such tags were refused: never another machine than the one that was meant
        other = shop.machine_by_tag(conn, which)
        if other is not None and other != machine:
            if machine is None:
                return other
            raise Problem(
                409,
                "ambiguous",
                f"{which} is the number of {machine.tag} and the tag of machine {other.id};"
                f" give machine {other.id} another tag.",
            )
    else:
        machine = shop.machine_by_tag(conn, which)
    if machine is None:
        raise not_found("machine", which, shop.tags(conn))
    return machine


def find_client(conn: Connection, client_id: int) -> Client:
    client = shop.client(conn, client_id)
    if client is None:
        raise not_found("client", client_id)
    return client


def check_known(conn: Connection, client_id: int) -> None:
    """A problem where a client is forgotten, or is being: nothing may be written of them."""
    if why := forgotten.why_closed(conn, client_id):
        raise Problem(409, "forgotten", f"Nothing can be written here: {why}.")


def check_not_restricted(conn: Connection, client_id: int) -> None:
    """A problem where a client is to be forgotten: only the owner sees what there is of them."""
    asked = forgettings.of_client(conn, client_id)
    if asked is not None and asked.state != "done":
        raise Problem(
            403, "restricted", "This client is to be forgotten: only the owner sees them."
        )


def find_volume(machine: Machine, mount: str | None) -> Volume:
    """One of a machine's volumes, also one that is gone; the fullest where none is named."""
    # a volume that is gone is shown where it is asked for by name
    chosen = [v for v in machine.volumes if mount is None or v.mount == mount]
    chosen = chosen or [v for v in machine.gone_volumes if v.mount == mount]
    if not chosen:
        known = ", ".join(v.mount for v in machine.volumes + machine.gone_volumes) or "none yet"
        raise Problem(404, "not-found", f"{machine.tag} has no such volume; it has {known}.")
    return max(chosen, key=lambda v: v.used_share)


def find_run(conn: Connection, run_id: int) -> Run:
    run = runs.run(conn, run_id)
    if run is None:
        raise not_found("run", run_id)
    return run


def find_hold(conn: Connection, hold_id: int) -> Hold:
    hold = holds.hold(conn, hold_id)
    if hold is None:
        raise not_found("hold", hold_id)
    return hold


def find_survey(conn: Connection, survey_id: int) -> Survey:
    survey = surveys.survey(conn, survey_id)
    if survey is None:
        raise not_found("survey", survey_id)
    return survey


class Searched(NamedTuple):
    """Whom and which time a search is about; times in epoch seconds, the last not among them."""

    machine_id: int | None
    client_id: int | None
    since: int | None
    until: int | None


def find_searched(conn: Connection, asked: Search) -> Searched:
    """Problem where its machine or client is none, or is more than one."""
    zone = the_shop(conn).clock
    return Searched(
        machine_id=find_machine(conn, asked.machine).id if asked.machine else None,
        client_id=_client(conn, asked.client),
        since=_midnight(asked.since, zone),
        until=_midnight(asked.until and asked.until + timedelta(days=1), zone),
    )


def _midnight(day: date | None, zone: ZoneInfo) -> int | None:
    return None if day is None else to_seconds(datetime.combine(day, time(), zone))


def _client(conn: Connection, name: str) -> int | None:
    """The one client that is called so, or whose name has all of these words."""
    if not name:
        return None
    # what was written of somebody who is retired is looked up as well
    known = [
        client
        for retired in (False, True)
        for client in shop.clients(conn, after=0, limit=50, words=name, retired=retired)
    ]
    exact = [client for client in known if client.name.casefold() == name.casefold()]
    chosen = exact or known
    if len(chosen) != 1:
        names = ", ".join(client.name for client in chosen[:5]) or "none"
        raise invalid("/words", f"'client:{name}' has to be one client; there are: {names}")
    return chosen[0].id

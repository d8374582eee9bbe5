"""Finding what a path names, or the problem that it is not there."""

from __future__ import annotations

from phylax.core.holds import Hold
from phylax.core.runs import Run
from phylax.core.shop import Client, Machine, Volume
from phylax.core.survey import Survey
from phylax.service.problems import Problem, not_found
from phylax.store import holds, runs, shop, surveys
from phylax.store.database import Connection


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
        raise not_found("machine", which)
    return machine


def find_client(conn: Connection, client_id: int) -> Client:
    client = shop.client(conn, client_id)
    if client is None:
        raise not_found("client", client_id)
    return client


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

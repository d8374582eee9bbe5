"""Finding what a path names, or the problem that it is not there."""

from __future__ import annotations

from phylax.core.holds import Hold
from phylax.core.runs import Run
from phylax.core.shop import Machine
from phylax.core.survey import Survey
from phylax.service.problems import not_found
from phylax.store import holds, runs, shop, surveys
from phylax.store.database import Connection


def find_machine(conn: Connection, which: str) -> Machine:
    """A machine by its number or its tag."""
    if which.isdecimal() and len(which) < 18:
        found = shop.machine(conn, int(which))
    else:
        found = shop.machine_by_tag(conn, which)
    if found is None:
        raise not_found("machine", which)
    return found


def find_run(conn: Connection, run_id: int) -> Run:
    found = runs.run(conn, run_id)
    if found is None:
        raise not_found("run", run_id)
    return found


def find_hold(conn: Connection, hold_id: int) -> Hold:
    found = holds.hold(conn, hold_id)
    if found is None:
        raise not_found("hold", hold_id)
    return found


def find_survey(conn: Connection, survey_id: int) -> Survey:
    found = surveys.survey(conn, survey_id)
    if found is None:
        raise not_found("survey", survey_id)
    return found

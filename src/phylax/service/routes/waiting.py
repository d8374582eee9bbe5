"""Listings that need approval, over the whole shop: read and agreed to in one place."""

from __future__ import annotations

from collections import defaultdict
from sqlite3 import Connection

from fastapi import APIRouter, Response

from phylax.core.catalogue import catalogue
from phylax.core.retention import Scope
from phylax.core.retention.consents import NewApproval, NewConsent, WaitingListing
from phylax.core.runs.runs import NewRun, RunsMade
from phylax.core.survey import ledger
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.problems import documented
from phylax.service.retention.consents import give
from phylax.service.routes.lookup import find_survey
from phylax.service.runs import create
from phylax.store.clients import shop
from phylax.store.retention import consents
from phylax.store.survey import surveys

router = APIRouter(prefix="/waiting-listings", tags=["consents"])


@router.get("")
def list_waiting_listings(context: TheContext, actor: Signed) -> list[WaitingListing]:
    """Largest first."""
    with context.db.read() as conn:
        machines = shop.machines_by_id(conn, surveys.machines_that_wait(conn))
        listings = [
            WaitingListing(
                survey_id=survey.id,
                machine_id=machine.id,
                machine_tag=machine.tag,
                client_name=machine.client_name,
                category=line.category,
                name=catalogue()[line.category].name,
                items=line.needs_approval.count,
                size=line.needs_approval.size,
                surveyed_at=survey.ended_at,
            )
            for machine in machines
            if (survey := surveys.newest(conn, machine.id)) is not None
            for line in ledger(survey).lines
            if line.needs_approval.count
            and line.rule.source is not Scope.CATALOGUE
            and line.category not in consents.standing_categories(conn, machine.id)
        ]
    return sorted(listings, key=lambda listing: (-listing.size, listing.machine_tag))


@router.post("/agree", status_code=201, response_model=RunsMade,
             responses=documented(403, 404, 422))  # fmt: skip
def agree(new: NewApproval, change: TheChange, technician: Technician) -> Response:
    """Say yes to all that these listings propose; each machine is cleaned of just that."""

    def act(conn: Connection) -> RunsMade:
        given: dict[int, list[tuple[str, int]]] = defaultdict(list)
        for listing in new.listings:
            survey = find_survey(conn, listing.survey_id)
            yes = NewConsent(
                survey_id=survey.id,
                category=listing.category,
                whole=True,
                via=new.via,
                comment=new.comment,
            )
            made = give(conn, change, survey, yes)
            given[survey.machine_id].append((listing.category, made.id))
        runs = []
        for machine_id, some in given.items():
            asked = NewRun(
                machine_id=machine_id,
                work="clean",
                categories=tuple(key for key, _ in some),
                consent_ids=tuple(number for _, number in some),
            )
            runs.append(create.make(conn, asked, who=change.who, at=change.now))
            change.audit(conn, "start clean", runs[-1].machine_tag, after=runs[-1])
        return RunsMade(runs=tuple(runs))

    response = change.once(new, act)
    for picked in new.listings:
        with change.context.db.read() as conn:
            change.context.wakeups.notify_machine(find_survey(conn, picked.survey_id).machine_id)
    return response

"""Surveys, their listings, and consent to them."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from phylax.core.ground.events import EventKind
from phylax.core.retention.consents import (
    Consent,
    NewConsent,
    NewStandingConsent,
    StandingConsent,
)
from phylax.core.survey import FolderSum, Ledger, ListedItem, ListingOrder, Survey, ledger
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.http.paging import NEWEST, After, Before, Limit, link_next, page
from phylax.service.problems import Problem, documented, not_found
from phylax.service.retention.consents import check_asks, give
from phylax.service.routes.lookup import find_machine, find_survey
from phylax.store.retention import consents
from phylax.store.survey import surveys

router = APIRouter(tags=["surveys"])


@router.get("/machines/{machine}/surveys", responses=documented(404))
def list_surveys(
    machine: str,
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 20,
) -> list[Survey]:
    """A machine's surveys, newest first."""
    with context.db.read() as conn:
        listed = surveys.of_machine(
            conn, find_machine(conn, machine).id, before=before, limit=limit + 1
        )
    return page(listed, limit, request, response, "before")


@router.get("/surveys/{survey_id}", responses=documented(404))
def get_survey(survey_id: int, context: TheContext, actor: Signed) -> Survey:
    with context.db.read() as conn:
        return find_survey(conn, survey_id)


@router.get("/surveys/{survey_id}/ledger", responses=documented(404))
def get_survey_ledger(survey_id: int, context: TheContext, actor: Signed) -> Ledger:
    with context.db.read() as conn:
        survey = find_survey(conn, survey_id)
        return ledger(survey, consents.standing_categories(conn, survey.machine_id))


@router.get("/surveys/{survey_id}/listings/{category}", responses=documented(404))
def get_listing(
    survey_id: int,
    category: str,
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    after: After = 0,
    limit: Limit = 200,
    largest_first: bool = False,
    place: Annotated[str | None, Query(description="Only what lies in this place")] = None,
    folder: Annotated[str, Query(description="Only what lies below this folder of it")] = "",
    number: Annotated[
        list[int], Query(max_length=200, description="Only these, in this order, and no page")
    ] = [],  # noqa: B006
) -> list[ListedItem]:
    """A kept listing, page by page: of categories that need approval or are only listed."""
    with context.db.read() as conn:
        find_survey(conn, survey_id)
        if number:
            return surveys.items_by_number(conn, survey_id, category, number)
        items = surveys.items(
            conn,
            survey_id,
            category,
            after=after,
            limit=limit + 1,
            largest_first=largest_first,
            place=place,
            folder=folder,
        )
    if len(items) > limit:
        link_next(request, response, after=items[limit - 1].number)
    return items[:limit]


@router.get("/surveys/{survey_id}/listings/{category}/order", responses=documented(404))
def get_listing_order(
    survey_id: int,
    category: str,
    context: TheContext,
    actor: Signed,
    place: str | None = None,
    folder: str = "",
) -> ListingOrder:
    """All items of a listing by number, largest first, with what choosing them needs."""
    with context.db.read() as conn:
        find_survey(conn, survey_id)
        return surveys.order(conn, survey_id, category, place, folder)


@router.get("/surveys/{survey_id}/listings/{category}/folders", responses=documented(404))
def get_folder_sums(
    survey_id: int,
    category: str,
    context: TheContext,
    actor: Signed,
    place: str | None = None,
    folder: str = "",
) -> list[FolderSum]:
    """What a listing holds by folder, one level at a time; without a place, by place."""
    with context.db.read() as conn:
        find_survey(conn, survey_id)
        return surveys.folder_sums(conn, survey_id, category, place, folder)


@router.post(
    "/consents", status_code=201, response_model=Consent, responses=documented(403, 404, 422)
)
def give_consent(new: NewConsent, change: TheChange, technician: Technician) -> Response:
    """A person's approval to exactly these items, as the survey found them."""

    def act(conn: Connection) -> Consent:
        return give(conn, change, find_survey(conn, new.survey_id), new)

    return change.once(new, act)


@router.get("/machines/{machine}/consents", responses=documented(404))
def list_consents(
    machine: str,
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Consent]:
    with context.db.read() as conn:
        listed = consents.of_machine(
            conn, find_machine(conn, machine).id, before=before, limit=limit + 1
        )
    return page(listed, limit, request, response, "before")


@router.post(
    "/machines/{machine}/standing-consents",
    status_code=201,
    response_model=StandingConsent,
    responses=documented(403, 404, 409, 422),
)
def give_standing_consent(
    machine: str, new: NewStandingConsent, change: TheChange, technician: Technician
) -> Response:
    """A yes to what the rule proposes of a category each time, until it is taken back."""

    def act(conn: Connection) -> StandingConsent:
        target = find_machine(conn, machine)
        check_asks(new.category)
        made = consents.add_standing(conn, target.id, new, who=change.who, at=change.now)
        if made is None:
            raise Problem(
                409, "there-already", f"{target.tag} has a standing consent for {new.category}."
            )
        change.audit(conn, "give standing consent", f"{new.category} on {target.tag}", after=made)
        change.tell(conn, EventKind.CONSENT, target.id)
        return made

    return change.once(new, act)


@router.get("/machines/{machine}/standing-consents", responses=documented(404))
def list_standing_consents(
    machine: str, context: TheContext, actor: Signed
) -> list[StandingConsent]:
    """All that were ever given for a machine, newest first."""
    with context.db.read() as conn:
        return consents.standings_of(conn, find_machine(conn, machine).id)


@router.delete("/standing-consents/{number}", status_code=204, responses=documented(403, 404, 409))
def take_back_consent(number: int, change: TheChange, technician: Technician) -> None:
    """From now on each listing needs its own yes again."""
    with change.context.db.write() as conn:
        consent = consents.standing(conn, number)
        if consent is None:
            raise not_found("standing consent", number)
        if consent.taken_back_at is not None:
            raise Problem(
                409, "ended-already", f"{consent.taken_back_by} has withdrawn it already."
            )
        consents.take_back(conn, number, who=change.who, at=change.now)
        change.audit(conn, "take back standing consent", consent.category, consent)
        change.tell(conn, EventKind.CONSENT, consent.machine_id)

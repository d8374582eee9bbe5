"""Surveys, their listings, and consent to them."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.catalogue import catalogue
from phylax.core.consents import Consent, NewConsent
from phylax.core.events import EventKind
from phylax.core.retention import Caution
from phylax.core.survey import Ledger, ListedItem, Survey, ledger
from phylax.service.deeds import TheDeed
from phylax.service.house import TheHouse
from phylax.service.paging import NEWEST, After, Before, Limit, link_next, page
from phylax.service.problems import documented, invalid, not_found
from phylax.service.routes.lookup import find_machine, find_survey
from phylax.service.signin import Signed, Technician
from phylax.store import surveys
from phylax.store.database import Connection

router = APIRouter(tags=["surveys"])


@router.get("/machines/{machine}/surveys", responses=documented(404))
def list_surveys(
    machine: str,
    house: TheHouse,
    actor: Signed,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 20,
) -> list[Survey]:
    """A machine's surveys, newest first."""
    with house.db.read() as conn:
        found = surveys.of_machine(
            conn, find_machine(conn, machine).id, before=before, limit=limit + 1
        )
    return page(found, limit, request, response, "before")


@router.get("/surveys/{survey_id}", responses=documented(404))
def get_survey(survey_id: int, house: TheHouse, actor: Signed) -> Survey:
    with house.db.read() as conn:
        return find_survey(conn, survey_id)


@router.get("/surveys/{survey_id}/ledger", responses=documented(404))
def get_survey_ledger(survey_id: int, house: TheHouse, actor: Signed) -> Ledger:
    with house.db.read() as conn:
        return ledger(find_survey(conn, survey_id))


@router.get("/surveys/{survey_id}/listings/{category}", responses=documented(404))
def get_listing(
    survey_id: int,
    category: str,
    house: TheHouse,
    actor: Signed,
    request: Request,
    response: Response,
    after: After = 0,
    limit: Limit = 200,
) -> list[ListedItem]:
    """The kept listing of an `ask` category, page by page."""
    with house.db.read() as conn:
        find_survey(conn, survey_id)
        found = surveys.items(conn, survey_id, category, after=after, limit=limit + 1)
    if len(found) > limit:
        link_next(request, response, after=found[limit - 1].number)
    return found[:limit]


@router.post(
    "/consents", status_code=201, response_model=Consent, responses=documented(403, 404, 422)
)
def give_consent(new: NewConsent, deed: TheDeed, technician: Technician) -> Response:
    """A person's yes to exactly these items, as the survey found them."""

    def act(conn: Connection) -> Consent:
        survey = find_survey(conn, new.survey_id)
        kind = catalogue().get(new.category)
        if kind is None:
            raise not_found("category", new.category)
        if kind.caution is not Caution.ASK:
            raise invalid(
                "/category", f"{new.category} needs no yes; its caution is {kind.caution}"
            )
        if new.whole:
            sizes = surveys.proposed(conn, survey.id, new.category)
            if not sizes:
                raise invalid("/whole", "the rule proposed nothing in this listing")
        else:
            sizes = surveys.sizes(conn, survey.id, new.category, list(new.numbers))
            if missing := set(new.numbers) - sizes.keys():
                raise invalid("/numbers", f"not in this listing: {sorted(missing)[:10]}")
        made = surveys.add_consent(conn, new, survey.machine_id, sizes, who=deed.who, at=deed.now)
        deed.audit(conn, "give consent", f"survey {survey.id}, {new.category}", after=made)
        deed.tell(conn, EventKind.CONSENT, survey.machine_id)
        return made

    return deed.once(new, act)


@router.get("/machines/{machine}/consents", responses=documented(404))
def list_consents(
    machine: str,
    house: TheHouse,
    actor: Signed,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Consent]:
    with house.db.read() as conn:
        found = surveys.consents(
            conn, find_machine(conn, machine).id, before=before, limit=limit + 1
        )
    return page(found, limit, request, response, "before")

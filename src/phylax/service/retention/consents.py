"""A person's approval to a listing, given for one or for many at once."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.catalogue import catalogue
from phylax.core.ground.events import EventKind
from phylax.core.retention import Caution
from phylax.core.retention.consents import Consent, NewConsent
from phylax.core.survey import Survey
from phylax.service.http.changes import Change
from phylax.service.problems import invalid, not_found
from phylax.store.retention import consents
from phylax.store.survey import surveys


def give(conn: Connection, change: Change, survey: Survey, new: NewConsent) -> Consent:
    """A yes to exactly these items, as the survey found them."""
    check_asks(new.category)
    if new.whole:
        sizes = surveys.proposed(conn, survey.id, new.category)
        if not sizes:
            raise invalid("/whole", "the rule proposed nothing in this listing")
    else:
        sizes = surveys.sizes(conn, survey.id, new.category, list(new.numbers))
        if missing := set(new.numbers) - sizes.keys():
            raise invalid("/numbers", f"not in this listing: {sorted(missing)[:10]}")
    made = consents.add(conn, new, survey.machine_id, sizes, who=change.who, at=change.now)
    change.audit(conn, "give consent", f"survey {survey.id}, {new.category}", after=made)
    change.tell(conn, EventKind.CONSENT, survey.machine_id)
    return made


def check_asks(key: str) -> None:
    """A problem where a category is none that needs approval."""
    kind = catalogue().get(key)
    if kind is None:
        raise not_found("category", key, catalogue())
    if kind.caution is not Caution.ASK:
        raise invalid("/category", f"{key} needs no consent; its caution is {kind.caution}")

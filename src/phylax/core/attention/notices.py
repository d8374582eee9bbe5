"""Notices: who is told of what, when, and what became of each."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from enum import StrEnum
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, model_validator

from phylax.core.attention import Attention, Finding, is_worse
from phylax.core.ground.addresses import MailAddress, is_loopback
from phylax.core.ground.names import Name
from phylax.core.ground.values import Demand, Moment, Value

URGENT = 70
"""From this urgency on it is told to those who want to know what is urgent."""
TOGETHER = timedelta(minutes=10)
"""What happens within this time is told together; no one is written to more often."""
SETTLES = timedelta(minutes=1)
"""What is gone again after this time was not worth a notice."""
SUMMARY_AT = time(7, 30)
"""When summaries are sent, in the shop's zone; weekly ones on Mondays."""
RETRIES = tuple(timedelta(minutes=minutes) for minutes in (1, 5, 15, 60, 4 * 60, 12 * 60, 24 * 60))


class AtOnce(StrEnum):
    NEVER = "never"
    URGENT = "urgent"
    ALL = "all"


class WishesEdit(Demand):
    """What a person wants to be told by mail."""

    mail: MailAddress | None = Field(None, description="Left out: nothing is sent")
    at_once: AtOnce = AtOnce.URGENT
    daily: bool = False
    weekly: bool = True
    quiet_from: time | None = Field(None, description="In the shop's zone", examples=["19:00"])
    quiet_until: time | None = Field(None, examples=["07:30"])

    @model_validator(mode="after")
    def _quiet_has_both_ends(self) -> WishesEdit:
        if (self.quiet_from is None) != (self.quiet_until is None):
            raise ValueError("quiet hours need both: from when, and until when")
        return self


class Wishes(Value):
    person_id: int
    person_name: str
    mail: str | None = None
    at_once: AtOnce = AtOnce.URGENT
    daily: bool = False
    weekly: bool = True
    quiet_from: time | None = None
    quiet_until: time | None = None
    version: int = 0

    def quiet_end(self, local: datetime) -> datetime | None:
        """When the quiet hours end that a local time falls into; None outside them."""
        begin, end = self.quiet_from, self.quiet_until
        if begin is None or end is None or begin == end:
            return None
        now = local.time().replace(tzinfo=None)
        if begin < end:
            if not begin <= now < end:
                return None
            day = local.date()
        elif now >= begin:
            day = local.date() + timedelta(days=1)
        elif now < end:
            day = local.date()
        else:
            return None
        return datetime.combine(day, end, local.tzinfo)


Security = Literal["tls", "starttls", "none"]


class MailServerEdit(Demand):
    """Through which server mail goes (SMTP, RFC 5321)."""

    host: Annotated[str, Field(min_length=1, max_length=200, examples=["mail.quayside.example"])]
    port: Annotated[int, Field(ge=1, le=65535, examples=[587])] = 587
    security: Security = Field(
        "starttls", description="`none` is for a server on this machine only"
    )
    login: Annotated[str, Field(max_length=200)] = Field(
        "", description="The password is read from the file that PHYLAX_MAIL_PASSWORD_FILE names"
    )
    sender: MailAddress

    @model_validator(mode="after")
    def _in_clear_only_here(self) -> MailServerEdit:
        if self.security == "none" and not is_loopback(self.host):
            raise ValueError("mail goes in clear to this machine itself only; use tls or starttls")
        return self


class MailServer(Value):
    host: str
    port: int
    security: Security
    login: str
    sender: str
    version: int


def _hook_url(text: str) -> str:
    parts = urlsplit(text)
    if parts.scheme == "https" and parts.hostname:
        return text
    if parts.scheme == "http" and parts.hostname and is_loopback(parts.hostname):
        return text
    raise ValueError("write an https:// address; http:// is for this machine itself only")


class HookEdit(Demand):
    """Where another program is told, by HTTP."""

    name: Name
    url: Annotated[
        str, Field(max_length=500, examples=["https://desk.example/in"]), AfterValidator(_hook_url)
    ]
    at_once: Literal[AtOnce.URGENT, AtOnce.ALL] = AtOnce.ALL
    own_network: bool = Field(
        False, description="It may lead into the service's own network, or to its own machine"
    )


class Hook(Value):
    id: int
    name: str
    url: str
    at_once: AtOnce
    own_network: bool = False
    made_by: str
    made_at: Moment


class HookShown(Hook):
    """A new hook; its secret is shown this once."""

    secret: str = Field(description="Key of the HMAC-SHA-256 signature (RFC 9421)")


NoticeKind = Literal["at once", "daily", "weekly", "trial", "report", "ready"]
BY_A_PERSON = ("report", "ready")
"""What somebody sends to a client."""
NoticeState = Literal["waiting", "delivered", "given up"]


class Notice(Value):
    """One message and its fate."""

    id: int
    uid: str
    kind: NoticeKind
    receiver: str
    by_mail: bool
    subject: str
    made_at: Moment
    due_at: Moment
    tries: int
    state: NoticeState
    error: str = ""
    ended_at: Moment | None = None


class HookMessage(Value):
    """What is sent to a hook."""

    id: str = Field(description="The same when it is sent again")
    kind: NoticeKind
    shop: str
    at: Moment
    attention: tuple[Finding, ...] = ()


class NotifiedAttention(Value):
    """Something that needs a person, and how bad it was when it was last told."""

    attention: Attention
    told_grade: int | None = None
    began_at: Moment

    def is_news(self, now: datetime) -> bool:
        """Worth a notice: new and still there after a while, or worse than was told."""
        if not self.attention.needs_somebody:
            return False
        if self.told_grade is None:
            return now - self.began_at >= SETTLES
        return is_worse(self.attention.cause, self.told_grade, self.attention.grade)


def wanted(items: list[Attention], at_once: AtOnce) -> list[Attention]:
    """What somebody wants to be told of these at once."""
    if at_once is AtOnce.NEVER:
        return []
    return [item for item in items if at_once is AtOnce.ALL or item.urgency >= URGENT]


def retry_at(tries: int, now: datetime) -> datetime | None:
    """When to try again after so many failed tries; None: not any more."""
    return now + RETRIES[tries - 1] if tries <= len(RETRIES) else None

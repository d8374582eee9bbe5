"""Forgetting a client, as it is asked for, as it stands, and what it means."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from typing import Annotated, Literal

from pydantic import Field, model_validator

from phylax.core.ground.quantities import count
from phylax.core.ground.values import Demand, Moment, Value


class Forget(Demand):
    """That a client is to be forgotten."""

    why: Annotated[str, Field(max_length=400, examples=["Asked for it by mail."])] = ""
    postponed_until: date | None = Field(
        None, description="Not before this day, as claims or the law want it; `why` says which"
    )
    with_backups: bool = Field(
        False, description="Backups made before are deleted too, and a new one is made"
    )
    words: Annotated[tuple[Annotated[str, Field(min_length=3, max_length=120)], ...],
                     Field(max_length=20)] = Field(
        (), description="What else names them: a surname, a nickname, an earlier name"
    )  # fmt: skip

    @model_validator(mode="after")
    def _says_why_not_yet(self) -> Forget:
        if self.postponed_until is not None and not self.why.strip():
            raise ValueError("say why it is postponed: a claim, a span that the law sets")
        return self


State = Literal["postponed", "waiting", "under way", "done"]


class Forgetting(Value):
    """How far a forgetting has come."""

    id: int
    client_id: int
    client_name: str
    requested_at: Moment
    requested_by: str
    why: str = Field("", description="Empty once it is done")
    postponed_until: Moment | None = None
    with_backups: bool = False
    state: State
    waits_for: str = Field("", description="What keeps it from ending just now")
    ended_at: Moment | None = None
    entries: int = Field(0, description="Entries of the record that lost their words")


class ForgetOutlook(Value):
    """What forgetting a client means as things stand."""

    client_name: str
    retired: bool
    machines: tuple[str, ...] = Field((), description="Tags")
    entries: int = Field(0, description="Of their machines: they stay, without words")
    elsewhere: int = Field(0, description="Entries of other machines that name them")
    reports: int = 0
    attachments: int = 0
    held: int = Field(0, description="Files that are held on their machines")
    changes: int = Field(0, description="Changes of settings in force on their machines")
    agents: int = Field(0, description="Agents that are told to forget when they call")
    backups: int = Field(0, description="Backups that hold them")
    in_backups_until: date | None = None
    already: Forgetting | None = None
    in_words: tuple[str, ...] = ()


def means(outlook: ForgetOutlook) -> tuple[str, ...]:
    return tuple(_sentences(outlook))


def _sentences(outlook: ForgetOutlook) -> Iterator[str]:
    if not outlook.retired:
        yield f"Retire {outlook.client_name} first: what becomes of rounds and holds is said there."
    gone = ["names, addresses, notes, consents, surveys, readings, advice"]
    if outlook.reports:
        gone.append(count(outlook.reports, "report"))
    if outlook.attachments:
        gone.append(count(outlook.attachments, "attachment"))
    yield f"Deleted for good: {', '.join(gone)}. Nobody can bring them back."
    if outlook.entries:
        stay = "stays" if outlook.entries == 1 else "stay"
        yield (
            f"{count(outlook.entries, 'entry')} of the record {stay}, with their time, kind and "
            "figures and without words; the chain still holds, and an entry says so."
        )
    if outlook.elsewhere:
        yield (
            f"{count(outlook.elsewhere, 'entry')} of other machines name them: those words are "
            "erased too, and what is left of the text is written down anew."
        )
    if outlook.held:
        yield (
            f"{count(outlook.held, 'file')} held on their machines can no longer be put back from "
            "here."
        )
    if outlook.agents:
        yield (
            f"Agents on {count(outlook.agents, 'machine')}: each lets go of what it holds and "
            "empties its folder when it calls next. Where one never calls again: 'phylax agent "
            "forget' on the machine."
        )
    if outlook.backups:
        until = f" until {outlook.in_backups_until:%Y-%m-%d}" if outlook.in_backups_until else ""
        yield (
            f"They stay in {count(outlook.backups, 'backup')}{until}, unless those are deleted "
            "too. Where one is restored, they are forgotten again at once."
        )
    yield "What was mailed, printed or taken out stays where it went."

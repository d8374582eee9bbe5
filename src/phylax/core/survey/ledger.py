"""The ledger: a survey as people read it. What goes, what needs approval, what stays and why."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import timedelta

from pydantic import Field

from phylax.core.catalogue import category
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Moment, Span, Value
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.retention import Caution, RuleInForce
from phylax.core.retention.verdicts import percent_free
from phylax.core.survey.lines import (
    LARGEST,
    NAMED_UNREAD,
    Item,
    PlaceSum,
    SkippedSum,
    Survey,
    SurveyLine,
    Unread,
    add_stays,
    most_held,
)


class LinePart(Value):
    """What a category has on one volume."""

    mount: str
    total: Tally
    removable: Tally
    needs_approval: Tally
    kept: tuple[SkippedSum, ...] = ()


class LedgerLine(Value):
    """One category over all volumes of a machine."""

    category: str
    name: str
    cost: str
    caution: Caution
    rule: RuleInForce
    rule_in_words: str
    total: Tally
    removable: Tally
    needs_approval: Tally
    standing: bool = Field(
        False, description="A standing consent covers it: it goes without another approval"
    )
    kept: tuple[SkippedSum, ...]
    largest: tuple[Item, ...]
    parts: tuple[LinePart, ...] = Field((), description="By volume")
    pressed: bool = Field(False, description="A volume is short of space; shorter spans count")
    keeps_listing: bool = False
    can_be_held: bool = False
    hold_for: Span = Field(timedelta(0), description="Held so long first; 0: gone at once")
    kept_sites: int = 0
    programs_open: tuple[str, ...] = ()
    places: tuple[PlaceSum, ...] = ()
    unread: tuple[Unread, ...] = ()
    unread_count: int = 0

    def going(self, volumes: VolumeChoice = ALL_VOLUMES, *, agreed: bool = False) -> Tally:
        """What goes of it on some volumes: by its rule, and, where somebody says yes, what waits
        for that."""
        return sum(
            (
                part.needs_approval if agreed or self.standing else part.removable
                for part in self.parts
                if volumes.covers(part.mount)
            ),
            Tally(),
        )


class VolumeShare(Value):
    """The parts of one volume: what would be removed, what needs approval."""

    mount: str
    removable: int
    needs_approval: int
    surveyed_at: Moment | None = Field(
        None, description="When, where this survey left it out: by an earlier one"
    )


class Ledger(Value):
    survey_id: int
    machine_id: int
    taken_at: Moment
    whole: bool = Field(description="False: the survey still runs, or was stopped on the way")
    lines: tuple[LedgerLine, ...]
    volumes: tuple[VolumeShare, ...]
    removable: Tally
    needs_approval: Tally


def ledger(survey: Survey, standing: Collection[str] = ()) -> Ledger:
    """The survey as people read it: a line for each category, and each volume's shares; `standing`
    are the categories with a standing consent."""
    by_category: dict[str, list[SurveyLine]] = {}
    for line in survey.lines:
        by_category.setdefault(line.category, []).append(line)
    lines = sorted(
        (
            _ledger_line(key, of_category, key in standing)
            for key, of_category in by_category.items()
        ),
        key=lambda line: category(line.category).order,
    )
    return Ledger(
        survey_id=survey.id,
        machine_id=survey.machine_id,
        taken_at=survey.ended_at or survey.started_at,
        whole=survey.ended_at is not None,
        lines=tuple(lines),
        volumes=tuple(_volume_shares(survey.lines)),
        removable=_sum(line.removable for line in lines),
        needs_approval=_sum(line.needs_approval for line in lines),
    )


def _ledger_line(key: str, lines: list[SurveyLine], standing: bool) -> LedgerLine:
    kind = category(key)
    proposed = _sum(line.removable for line in lines)
    needs_yes = kind.caution is Caution.ASK
    return LedgerLine(
        category=key,
        name=kind.name,
        cost=kind.cost,
        caution=kind.caution,
        rule=lines[0].rule,
        rule_in_words=kind.in_words(lines[0].rule),
        total=_sum(line.total for line in lines),
        removable=Tally() if needs_yes else proposed,
        needs_approval=proposed if needs_yes else Tally(),
        standing=standing and needs_yes,
        kept=add_stays(stay for line in lines for stay in line.kept),
        largest=tuple(
            sorted((i for line in lines for i in line.largest), key=lambda i: -i.size)[:LARGEST]
        ),
        parts=tuple(_part(line, needs_yes) for line in lines),
        pressed=any(
            line.rule.span_at(percent_free(line.free, line.capacity)) < line.rule.keep_for
            for line in lines
        ),
        keeps_listing=kind.keeps_listing,
        can_be_held=kind.can_be_held,
        hold_for=kind.held_for(lines[0].rule),
        kept_sites=sum(line.kept_sites for line in lines),
        programs_open=tuple(sorted({p for line in lines for p in line.programs_open})),
        places=most_held(place for line in lines for place in line.places),
        unread=tuple(entry for line in lines for entry in line.unread)[:NAMED_UNREAD],
        unread_count=sum(line.unread_count for line in lines),
    )


def _volume_shares(lines: Iterable[SurveyLine]) -> Iterable[VolumeShare]:
    shares: dict[str, list[int]] = {}
    looked_at: dict[str, Moment | None] = {}
    for line in lines:
        share = shares.setdefault(line.mount, [0, 0])
        share[category(line.category).caution is Caution.ASK] += line.removable.size
        looked_at[line.mount] = line.surveyed_at
    for mount, (goes, asks) in sorted(shares.items()):
        yield VolumeShare(
            mount=mount, removable=goes, needs_approval=asks, surveyed_at=looked_at[mount]
        )


def _part(line: SurveyLine, needs_yes: bool) -> LinePart:
    return LinePart(
        mount=line.mount,
        total=line.total,
        removable=Tally() if needs_yes else line.removable,
        needs_approval=line.removable if needs_yes else Tally(),
        kept=add_stays(line.kept),
    )


def _sum(tallies: Iterable[Tally]) -> Tally:
    return sum(tallies, Tally())

"""Routines: named lists of steps, the order that the work demands, and how long it takes."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable, Sequence
from datetime import timedelta
from enum import StrEnum
from functools import cache
from importlib import resources
from statistics import median
from typing import Annotated, Any, NamedTuple

from pydantic import Field, field_validator, model_validator

from phylax.core.catalogue import catalogue
from phylax.core.ground.names import Name
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.retention import Caution

GUESS = timedelta(minutes=15)
"""What a routine takes where nothing was measured yet."""


class StepKind(StrEnum):
    SURVEY = "survey"
    CHECK = "check"
    QUICK_SCAN = "quick scan"
    CLEAN = "clean"
    SECOND_LOOK = "second look"
    FULL_SCAN = "full scan"
    UPDATE = "update"
    TUNE = "tune"
    ARRANGE = "arrange"
    RESTART = "restart"
    COMPARE = "compare"
    BY_HAND = "by hand"

    @property
    def by_agent(self) -> bool:
        """Whether the machine's agent does it; the others are ticked by people."""
        return self not in (StepKind.RESTART, StepKind.BY_HAND)

    @property
    def is_alone(self) -> bool:
        """Whether it is an order of its own, for it goes by what came before or decides about what
        comes after."""
        return self.by_agent and self not in (
            StepKind.SURVEY, StepKind.CLEAN, StepKind.SECOND_LOOK
        )  # fmt: skip

    @property
    def action(self) -> str:
        """The action that it is, by its key; empty where it is none."""
        return _ACTIONS.get(self, "")

    @property
    def length_key(self) -> str:
        """By what its length is kept: actions as such, whoever asked for them."""
        return self.action or str(self)

    @property
    def checks(self) -> bool:
        """Whether it looks, and changes nothing."""
        return self in (StepKind.CHECK, StepKind.QUICK_SCAN, StepKind.FULL_SCAN)


_ACTIONS = {
    StepKind.UPDATE: "install-updates",
    StepKind.ARRANGE: "arrange-disks",
    StepKind.RESTART: "restart",
}
_ORDER = (
    StepKind.SURVEY, StepKind.CHECK, StepKind.QUICK_SCAN, StepKind.CLEAN, StepKind.SECOND_LOOK,
    StepKind.FULL_SCAN, StepKind.UPDATE, StepKind.TUNE, StepKind.ARRANGE, StepKind.RESTART,
    StepKind.COMPARE,
)  # fmt: skip
"""Look, check, scan, clean, look again, scan in full, update, tune, arrange, restart, compare.
Steps by hand stay behind the one they were put after."""
_WHY = {
    StepKind.SURVEY: "looking comes before anything is touched",
    StepKind.CHECK: "checks come before anything is changed: a failing disk stops the rest",
    StepKind.QUICK_SCAN: "a quick scan comes before cleaning takes what it would have found",
    StepKind.FULL_SCAN: "a full scan comes after cleaning, when there is less to read",
    StepKind.UPDATE: "updates come before tuning: they bring back what starts by itself",
    StepKind.ARRANGE: "disks are arranged last of all that writes to them",
    StepKind.COMPARE: "what is compared is the end with the beginning",
    StepKind.CLEAN: "cleaning comes after the survey and before the second look",
    StepKind.SECOND_LOOK: "the second look compares with what the cleaning left",
    StepKind.TUNE: "tuning comes after cleaning, and before the restart that shows it",
    StepKind.RESTART: "a restart comes after everything that asks for one",
}


class RoutineStep(Demand):
    """One step of a routine."""

    kind: StepKind
    categories: Annotated[tuple[str, ...], Field(description="For 'clean': what to clean")] = ()
    title: Annotated[str, Field(max_length=120, description="For 'by hand': what to do")] = ""
    text: Annotated[str, Field(max_length=2000, description="For 'by hand': how")] = ""

    @field_validator("categories")
    @classmethod
    def _only_what_may_ever_go(cls, keys: tuple[str, ...]) -> tuple[str, ...]:
        """`ask` categories go on machines with a standing consent; elsewhere they are listed."""
        may_go = [key for key, c in catalogue().items() if c.caution is not Caution.REPORT]
        for key in keys:
            if key not in may_go:
                raise ValueError(
                    f"{key!r} cannot go unattended; a routine may clean {', '.join(may_go)}"
                )
        return tuple(dict.fromkeys(keys))

    @model_validator(mode="after")
    def _says_what_its_kind_needs(self) -> RoutineStep:
        if (self.kind is StepKind.CLEAN) != bool(self.categories):
            raise ValueError("categories belong to a step 'clean', which names at least one")
        if (self.kind is StepKind.BY_HAND) != bool(self.title.strip()):
            raise ValueError("a title belongs to a step 'by hand', which needs one")
        return self

    @property
    def in_words(self) -> str:
        if self.kind is StepKind.BY_HAND:
            return self.title
        if self.kind is StepKind.CLEAN:
            return f"clean {', '.join(self.categories)}"
        return str(self.kind)


class RoutineEdit(Demand):
    """A routine as people write it."""

    name: Name
    note: Annotated[str, Field(max_length=2000, description="What it is for")] = ""
    steps: Annotated[tuple[RoutineStep, ...], Field(min_length=1, max_length=60)]

    @model_validator(mode="after")
    def _can_be_put_in_order(self) -> RoutineEdit:
        in_order(self.steps)
        return self


class Routine(Value):
    id: int
    name: str
    note: str = ""
    steps: tuple[RoutineStep, ...]
    shipped: bool = Field(False, description="Came with Phylax; copy it to change it")
    put_right: tuple[str, ...] = Field(
        (), description="What was moved, added or joined when it was saved, and why"
    )
    changed_by: str = ""
    changed_at: Moment | None = None
    version: int


class Ordered(NamedTuple):
    steps: tuple[RoutineStep, ...]
    put_right: tuple[str, ...]


def in_order(steps: Sequence[RoutineStep]) -> Ordered:
    """The steps in the order that the work demands, and in words what had to be put right.

    A step by hand stays behind the step that it was put after. ValueError, with the reason, where
    the order cannot be put right.
    """
    kinds = [step.kind for step in steps]
    if StepKind.SECOND_LOOK in kinds and StepKind.CLEAN not in kinds:
        raise ValueError("a second look compares with a cleaning, and there is none; add one")
    notes: list[str] = []
    groups, first = _grouped(_once_each(steps, notes))
    if StepKind.CLEAN in groups:
        for kind, why in (
            (StepKind.SURVEY, "a survey was put first: what goes is known before it goes"),
            (StepKind.SECOND_LOOK, "a second look was added: what came free is measured"),
        ):
            if kind not in groups:
                groups[kind] = [RoutineStep(kind=kind)]
                notes.append(why)
    if StepKind.TUNE in groups and StepKind.SURVEY not in groups:
        groups[StepKind.SURVEY] = [RoutineStep(kind=StepKind.SURVEY)]
        notes.append("a survey was put first: startup programs are read before they change")
    if StepKind.COMPARE in groups and StepKind.SURVEY not in groups:
        groups[StepKind.SURVEY] = [RoutineStep(kind=StepKind.SURVEY)]
        notes.append("a survey was put first: what is compared has to be known before")
    if StepKind.CLEAN in groups and len(groups[StepKind.CLEAN]) > 1:
        # the agent cleans and looks again in one go
        clean, *behind = groups[StepKind.CLEAN]
        second, *after = groups[StepKind.SECOND_LOOK]
        groups[StepKind.CLEAN] = [clean]
        groups[StepKind.SECOND_LOOK] = [second, *behind, *after]
        notes.append("the second look was put straight behind the cleaning, with nothing between")
    given = [kind for kind in groups if kind in kinds]
    wanted = sorted(given, key=_ORDER.index)
    notes += [
        f"{kind} was moved: {_WHY[kind]}"
        for kind, was in zip(wanted, given, strict=True)
        if kind is not was
    ]
    ordered = [step for kind in sorted(groups, key=_ORDER.index) for step in groups[kind]]
    return Ordered((*first, *ordered), tuple(notes))


def _once_each(steps: Sequence[RoutineStep], notes: list[str]) -> list[RoutineStep]:
    """Steps of the same kind joined into the first of them; steps by hand stay as they are."""
    kept: list[RoutineStep] = []
    for step in steps:
        twin = next((n for n, other_step in enumerate(kept) if other_step.kind is step.kind), None)
        if step.kind is StepKind.BY_HAND or twin is None:
            kept.append(step)
            continue
        both = tuple(dict.fromkeys((*kept[twin].categories, *step.categories)))
        kept[twin] = RoutineStep(kind=step.kind, categories=both)
        notes.append(f"{step.kind} stood twice and was joined: it is done once")
    return kept


def _grouped(
    steps: Iterable[RoutineStep],
) -> tuple[dict[StepKind, list[RoutineStep]], list[RoutineStep]]:
    """Each step with those by hand behind it; and those by hand before all."""
    groups: dict[StepKind, list[RoutineStep]] = {}
    first: list[RoutineStep] = []
    current = first
    for step in steps:
        if step.kind is not StepKind.BY_HAND:
            current = groups.setdefault(step.kind, [])
        current.append(step)
    return groups, first


class StepState(StrEnum):
    TO_DO = "to do"
    UNDER_WAY = "under way"
    DONE = "done"
    LEFT_OUT = "left out"

    @property
    def is_over(self) -> bool:
        return self in (StepState.DONE, StepState.LEFT_OUT)


class RunStep(Value):
    """A step of one run: what became of it, by whom, when."""

    number: int
    kind: StepKind
    categories: tuple[str, ...] = ()
    title: str = ""
    text: str = ""
    state: StepState = StepState.TO_DO
    at: Moment | None = None
    by: str = ""
    comment: str = ""
    expected_seconds: int | None = Field(None, description="Seconds that it took before, if known")

    @property
    def in_words(self) -> str:
        return self.title or str(self.kind)


class StepTick(Demand):
    """What a technician says of a step by hand."""

    state: StepState = StepState.DONE
    comment: Annotated[str, Field(max_length=500)] = ""

    @field_validator("state")
    @classmethod
    def _what_people_may_say(cls, state: StepState) -> StepState:
        if state is StepState.UNDER_WAY:
            raise ValueError("people say 'done', 'left out' or 'to do' of a step")
        return state


def current(steps: Sequence[RunStep]) -> RunStep | None:
    """The first step that is not over; None when all are."""
    return next((step for step in steps if not step.state.is_over), None)


def agents_part(
    steps: Sequence[RunStep], is_agents: Callable[[RunStep], bool] = lambda step: step.kind.by_agent
) -> tuple[RunStep, ...]:
    """The steps that the agent does next in one go; empty while a person's step comes first.

    Looking, cleaning and looking again belong together unless something is between them; all else
    are parts of their own.
    """
    part: list[RunStep] = []
    for step in steps:
        if step.state.is_over:
            continue
        if not is_agents(step) or (part and (_is_alone(step) or _is_alone(part[0]))):
            break
        part.append(step)
    return tuple(part)


def _is_alone(step: RunStep) -> bool:
    return step.kind.is_alone or step.kind is StepKind.RESTART


def length(measured: Sequence[int], elsewhere: Sequence[int] = ()) -> timedelta:
    """How long a routine takes on a machine: the median of its earlier runs there, in seconds;
    where there are none, of runs on other machines; else a guess."""
    for known in (measured, elsewhere):
        if known:
            return timedelta(seconds=round(median(known)))
    return GUESS


@cache
def shipped() -> dict[str, RoutineEdit]:
    """The routines that come with Phylax, by key, from `routines.toml`."""
    text = resources.files("phylax.core.scheduling").joinpath("routines.toml").read_text("utf-8")
    tables: dict[str, Any] = tomllib.loads(text)
    made = {}
    for key, table in tables.items():
        edit = RoutineEdit.model_validate(table)
        ordered = in_order(edit.steps)
        assert not ordered.put_right, f"{key}: {ordered.put_right}"
        made[key] = edit
    return made

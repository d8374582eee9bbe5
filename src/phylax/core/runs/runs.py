"""Runs: one machine carrying out its work once, and how it ended."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from phylax.core.actions import Action
from phylax.core.checks.kind import kinds
from phylax.core.ground.names import Key
from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.tally import Tally
from phylax.core.ground.text import Text
from phylax.core.ground.values import Demand, Moment, Scalar, Value
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.hold.holds import HeldPick, IfTaken
from phylax.core.protocol import CategoryOutcome, LeftItem, Progress, ResultMessage
from phylax.core.runs.balance import Balance, freed_on_volumes
from phylax.core.scheduling.missed import MissedCause
from phylax.core.scheduling.routines import RoutineStep, RunStep, StepKind, StepState
from phylax.core.survey import SkippedSum
from phylax.core.tuning.changes import MOST_WANTED, ChangeId, Wanted, WantedValue
from phylax.core.tuning.programs import Intent

AskedWork = Literal[
    "survey", "clean", "put back", "let go", "look at settings", "change settings",
    "put settings back", "check", "act",
]  # fmt: skip
"""What a person can ask for."""
Work = Literal[AskedWork, "by hand"]
"""A routine whose agent neither cleans nor looks is of the work 'by hand'."""


class RunState(StrEnum):
    WAITING = "waiting"
    OFFERED = "offered"
    RUNNING = "running"
    DONE = "done"
    PARTLY = "partly"
    FAILED = "failed"
    MISSED = "missed"
    CALLED_OFF = "called off"

    @property
    def has_ended(self) -> bool:
        return self in ENDED


NAMED = 5
"""So many of what was not done are named where a run's end is told."""
ENDED = frozenset(
    {RunState.DONE, RunState.PARTLY, RunState.FAILED, RunState.MISSED, RunState.CALLED_OFF}
)


class WantedProgram(Demand):
    """When a program of the machine is to run."""

    program: Text = Field(description="Its key")
    intent: Intent


class WantedSetting(Demand):
    """What a setting of one value is to be."""

    setting: Key
    person: Text = Field("", description="The person whose it is; empty: the machine's")
    value: Scalar


class SettingsPicks(Value):
    """What a run is to change, or to put back, as it was checked when it was asked for."""

    wanted: tuple[Wanted, ...] = ()
    values: tuple[WantedValue, ...] = ()
    changes: tuple[ChangeId, ...] = ()
    comment: str = ""


class NewRun(Demand):
    """Work asked for by a person, to be done as soon as the machine calls."""

    machine_id: int
    work: AskedWork
    categories: tuple[str, ...] = Field(
        (), description="What to clean; empty for a survey, which looks at every category"
    )
    consent_ids: tuple[int, ...] = Field((), description="Consents for `ask` categories")
    volumes: VolumeChoice = Field(
        ALL_VOLUMES, description="For a survey or a cleaning: on which volumes"
    )
    survey_id: int | None = Field(
        None,
        description="For a cleaning that somebody was asked about: the survey whose figures they "
        "were shown. Where a rule or the protect list has changed since, nothing is cleaned",
    )
    held: Annotated[tuple[HeldPick, ...], Field(max_length=100)] = Field(
        (), description="Held things to put back, or to let go before their time"
    )
    if_taken: IfTaken = Field(
        IfTaken.LEAVE, description="What to do where a name is taken again when putting back"
    )

    programs: Annotated[tuple[WantedProgram, ...], Field(max_length=MOST_WANTED)] = Field(
        (), description="What is to become of which programs; it is a yes to what needs one"
    )
    values: Annotated[tuple[WantedSetting, ...], Field(max_length=MOST_WANTED)] = Field(
        (), description="What settings of one value are to be; a yes to what needs one"
    )
    changes: Annotated[tuple[int, ...], Field(max_length=MOST_WANTED)] = Field(
        (), description="Numbers of the changes to put back"
    )
    checks: Annotated[tuple[Key, ...], Field(max_length=50)] = Field(
        (), description="What to check"
    )
    modes: dict[Key, Key] = Field(
        {}, max_length=50, description="How to check, by check, where not the usual way"
    )
    action: Action | None = Field(None, description="What is to be done")
    at: Moment | None = Field(
        None, description="Not before then; for an action at an agreed time, within a day"
    )
    comment: Annotated[str, Field(max_length=400)] = Field(
        "", description="What was said to it, for the record"
    )

    @model_validator(mode="after")
    def _acting_names_what(self) -> NewRun:
        if (self.work == "act") != (self.action is not None):
            raise ValueError("'act' says what is to be done, and is for that alone")
        if self.at is not None and self.action is None:
            raise ValueError("'at' is for an action")
        return self

    @model_validator(mode="after")
    def _settings_name_what(self) -> NewRun:
        if (self.work == "change settings") != bool(self.programs or self.values):
            raise ValueError("'programs' and 'values' name what to change, and are for that alone")
        if (self.work == "put settings back") != bool(self.changes):
            raise ValueError("'changes' names what to put back, and is for that alone")
        return self

    @model_validator(mode="after")
    def _checking_names_what(self) -> NewRun:
        if (self.work == "check") != bool(self.checks):
            raise ValueError("'checks' names what to check, and is for that alone")
        if unknown := [key for key in self.checks if key not in kinds()]:
            known = ", ".join(kinds())
            raise ValueError(f"there is no check {unknown[0]!r}; there are {known}")
        for key, mode in self.modes.items():
            if key not in self.checks:
                raise ValueError(f"'modes' says how to check {key}, which is not checked")
            if why := kinds()[key].why_not(mode):
                raise ValueError(why)
        return self

    @model_validator(mode="after")
    def _cleaning_names_what(self) -> NewRun:
        about_held = self.work in ("put back", "let go")
        if self.work == "clean" and not self.categories:
            raise ValueError("a cleaning names at least one category")
        if self.work != "clean" and (self.categories or self.consent_ids):
            raise ValueError(f"categories and consents are for a cleaning, not for '{self.work}'")
        if about_held != bool(self.held):
            raise ValueError("'held' names what to put back or let go, and is for that alone")
        if self.work not in ("survey", "clean") and not self.volumes.is_all:
            raise ValueError("volumes are chosen for a survey or a cleaning")
        return self


class NewRoutineRuns(Demand):
    """A routine to be carried out once, on one machine or many, as soon as they call."""

    machine_ids: Annotated[tuple[int, ...], Field(min_length=1, max_length=10_000)]
    volumes: VolumeChoice = Field(
        ALL_VOLUMES, description="On which volumes its steps look and clean"
    )
    on_bench: bool = Field(
        False, description="The machine is on the bench: rounds wait until the list is through"
    )

    @field_validator("machine_ids")
    @classmethod
    def _each_once(cls, ids: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(dict.fromkeys(ids))


class RunsAgain(Demand):
    """Runs of which what failed is to be done again."""

    run_ids: Annotated[tuple[int, ...], Field(min_length=1, max_length=1000)]


def work_of(steps: Sequence[RoutineStep | RunStep]) -> tuple[Work, tuple[str, ...]]:
    """What a routine's agent does, and what it cleans."""
    for step in steps:
        if step.kind is StepKind.CLEAN:
            return "clean", step.categories
    if any(step.kind is StepKind.SURVEY for step in steps):
        return "survey", ()
    if any(step.kind.checks for step in steps):
        return "check", ()
    return "by hand", ()


def failed_categories(run: RunDetail) -> tuple[str, ...] | None:
    """What of a cleaning is to be done again; None: all of it, as nothing was done.

    What was left though it should have gone, and what the run never came to.
    """
    if not run.outcomes:
        return None
    done = {
        outcome.category
        for outcome in run.outcomes
        if not outcome.unread_count and not any(s.reason.should_have_gone for s in outcome.left)
    }
    if run.state in (RunState.FAILED, RunState.CALLED_OFF):
        done = {o.category for o in run.outcomes if o.category in done and o.removed.count}
    return tuple(key for key in run.categories if key not in done)


class Conclusion(Value):
    """A result, weighed."""

    state: RunState
    reason: str
    removed: Tally
    held: Tally = Tally()
    put_back: Tally = Tally()
    left: tuple[SkippedSum, ...]
    freed: int | None = Field(description="Bytes more free on the volumes, after against before")
    changed: int = 0


def conclude(result: ResultMessage) -> Conclusion:
    """What state a run ends in: `partly` when something stood in the way of what should go."""
    removed = sum((o.removed for o in result.outcomes), Tally())
    left = tuple(stay for o in result.outcomes for stay in o.left)
    stuck = sum(stay.count for stay in left if stay.reason.should_have_gone)
    unread = sum(o.unread_count for o in result.outcomes)
    state, reason = RunState.DONE, ""
    if result.timed_out:
        state, reason = RunState.PARTLY, "its window ended before it was through"
    elif result.cancelled:
        state, reason = RunState.CALLED_OFF, "called off while it ran"
    elif result.error:
        state, reason = RunState.FAILED, result.error
    elif result.refused and result.is_action:
        state, reason = RunState.PARTLY, "; ".join(result.refusals[:NAMED])
    elif result.refused:
        said = "; ".join(result.refusals[:NAMED])
        more = f"; and {result.refused - NAMED} more" if result.refused > NAMED else ""
        reason = f"{count(result.refused, 'setting')} not changed"
        state, reason = RunState.PARTLY, f"{reason}: {said}{more}" if said else reason
    elif stuck or unread:
        parts = [f"{count(stuck, 'item')} left"] if stuck else []
        parts += [f"{count(unread, 'folder')} could not be read"] if unread else []
        state, reason = RunState.PARTLY, "; ".join(parts)
    return Conclusion(
        state=state,
        changed=result.changed,
        reason=reason,
        removed=removed,
        held=sum((o.held for o in result.outcomes), Tally()),
        put_back=sum((o.put_back for o in result.outcomes), Tally()),
        left=left,
        freed=freed_on_volumes(result.before, result.after),
    )


class Run(Value):
    id: int
    machine_id: int
    machine_tag: str
    client_name: str
    work: Work
    categories: tuple[str, ...] = ()
    volumes: VolumeChoice = Field(ALL_VOLUMES, description="On which of them it looks and cleans")
    action: Action | None = None
    state: RunState
    reason: str = ""
    round_id: int | None = None
    round_name: str | None = None
    routine_id: int | None = None
    routine_name: str | None = None
    routine_version: int | None = None
    cause: MissedCause | None = Field(None, description="Of a missed run: what stood in the way")
    made_by: str
    made_at: Moment
    occurs_at: Moment | None = Field(None, description="The round's time that this run is for")
    due_at: Moment = Field(description="Earlier than this it does not start")
    closes_at: Moment | None = Field(None, description="When the present window for it closes")
    start_before: Moment | None = Field(None, description="Later than this it does not start")
    at_work: bool = Field(False, description="Its agent holds it now")
    awaits_person: bool = Field(False, description="A person's step comes next")
    on_bench: bool = False
    started_at: Moment | None = None
    ended_at: Moment | None = None
    progress: Progress | None = None
    expected: Tally | None = None
    removed: Tally | None = None
    held: Tally | None = None
    put_back: Tally | None = None
    freed: int | None = None
    survey_id: int | None = None
    follow_up_survey_id: int | None = None


class RunsMade(Value):
    """Runs that were made at one request."""

    runs: tuple[Run, ...]


class RunDetail(Run):
    """A run with everything that became of it."""

    outcomes: tuple[CategoryOutcome, ...] = ()
    left: tuple[LeftItem, ...] = ()
    before: tuple[ReadingIn, ...] = ()
    after: tuple[ReadingIn, ...] = ()
    resumed: int = 0
    passes: int = 0
    uncertain: bool = False
    steps: tuple[RunStep, ...] = Field((), description="Of a routine: what became of each step")
    balance: Balance | None = Field(
        None, description="For a cleaning: promised, done, freed, and why these differ"
    )


def with_steps(conclusion: Conclusion | None, steps: Sequence[RunStep]) -> Conclusion:
    """How a routine's run ends: as its agent's work did, and partly where steps were left out."""
    ended = conclusion or Conclusion(
        state=RunState.DONE, reason="", removed=Tally(), left=(), freed=None
    )
    left_out = [step for step in steps if step.state is not StepState.DONE]
    if not left_out or ended.state not in (RunState.DONE, RunState.PARTLY):
        return ended
    named = ", ".join(step.in_words for step in left_out[:3])
    words = f"{count(len(left_out), 'step')} left out: {named}"
    reason = f"{ended.reason}; {words}" if ended.reason else words
    return ended.model_copy(update={"state": RunState.PARTLY, "reason": reason})


def with_part(cleaned: Conclusion | None, tuned: Conclusion) -> Conclusion:
    """What a cleaning and what came after it came to together; the worse of both is said."""
    if cleaned is None:
        return tuned
    if tuned.state is RunState.DONE:
        return cleaned.model_copy(update={"changed": tuned.changed})
    reason = f"{cleaned.reason}; {tuned.reason}" if cleaned.reason else tuned.reason
    # the cleaning was done, whatever became of the settings
    return cleaned.model_copy(
        update={"state": RunState.PARTLY, "reason": reason, "changed": tuned.changed}
    )


def tuned_in_words(tuned: Conclusion) -> str:
    """What a tuning came to, beside its step."""
    changed = count(tuned.changed, "setting") if tuned.changed else "nothing"
    return f"{changed} changed" + (f"; {tuned.reason}" if tuned.reason else "")


def in_a_sentence(
    work: Work,
    conclusion: Conclusion,
    act: Action | None = None,
    volumes: VolumeChoice = ALL_VOLUMES,
) -> str:
    """A run's end for the record."""
    chosen = "" if volumes.is_all else f" ({volumes.in_words()})"
    tuned = f"; {count(conclusion.changed, 'setting')} changed" if conclusion.changed else ""
    if work == "survey":
        if conclusion.state is RunState.DONE:
            return f"Looked through{chosen}{tuned or '; nothing was touched'}."
        if conclusion.state is RunState.PARTLY:
            return _with_state(f"Looked through{chosen}{tuned}", conclusion)
        return f"The survey ended early: {conclusion.reason}."
    if work == "look at settings":
        return _with_state("Its settings were looked at; nothing was touched", conclusion)
    if work == "check":
        return _with_state("Checked; nothing was touched", conclusion)
    if work == "act":
        return _with_state(act.title if act else "It was gone through", conclusion)
    if work == "by hand":
        return _with_state("The steps of its list were gone through", conclusion)
    if work in ("change settings", "put settings back"):
        did = "Changed" if work == "change settings" else "Put back"
        return _with_state(f"{did} {count(conclusion.changed, 'setting')}", conclusion)
    if work == "put back":
        put_back = conclusion.put_back
        words = f"Put back {count(put_back.count, 'item')}, {show_size(put_back.size)}"
        return _with_state(words, conclusion)
    removed = conclusion.removed
    words = f"Removed {count(removed.count, 'item')}, {show_size(removed.size)}{chosen}"
    if conclusion.freed is not None:
        words += f"; the volumes show {_more_free(conclusion.freed)}"
    if conclusion.held.count:
        held = conclusion.held
        words += f"; {count(held.count, 'item')}, {show_size(held.size)}, held and can be put back"
    return _with_state(words + tuned, conclusion)


def in_words(run: Run) -> str:
    """What a run is, for lists: the routine's name or the work itself."""
    if run.action is not None:
        return run.action.title.lower()
    words = run.routine_name or {"survey": "look", "clean": "cleaning"}.get(run.work, run.work)
    return words if run.volumes.is_all else f"{words}, {run.volumes.in_words()}"


def _more_free(size: int) -> str:
    return f"{show_size(abs(size))} {'more' if size >= 0 else 'less'} free"


def _with_state(words: str, conclusion: Conclusion) -> str:
    if conclusion.state is not RunState.DONE:
        words += f". {conclusion.reason[:1].upper()}{conclusion.reason[1:]}"
    return words + "."

"""Verdicts: whether a setting or a program changes on a machine, and why not.

The same functions decide in a survey, in a change on the machine, and in what-if.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Literal

from pydantic import Field

from phylax.core.ground.names import Key
from phylax.core.ground.text import Text
from phylax.core.ground.values import Scalar, Value
from phylax.core.retention import Scope
from phylax.core.tuning.known import KnownProgram, ProgramDecision
from phylax.core.tuning.programs import Intent, Program
from phylax.core.tuning.rules import InForce
from phylax.core.tuning.setting import DependsOn, Reversibility, Setting

Answers = Mapping[str, Literal["yes", "no"]]
"""What was answered, by the question's key; what is missing was not answered."""


class SkipReason(StrEnum):
    """Why something stays as it is."""

    NOT_THERE = "not there"
    UNREAD = "cannot be read"
    GUARDED = "guarded"
    UNKNOWN = "unknown"
    NO_ANSWER = "no answer yet"
    ASKED_FOR = "asked for"
    NO_WISH = "no rule wants otherwise"
    AS_WANTED = "as wanted already"
    NEEDED = "something that stays needs it"
    ON_BATTERY = "on battery"
    DISK_NOT_KNOWN = "kind of disk not known"
    FINDINGS_FIRST = "findings first"
    NO_RIGHT = "no right"
    BY_HAND = "only by hand"


class Circumstances(Value):
    """What a machine is like while it is judged."""

    on_battery: bool | None = Field(None, description="None: no battery, or not known")
    disk_known: bool = True
    findings: bool = Field(False, description="A check of it has findings that nobody settled")


class Seen(Value):
    """A setting of one value as it was read on a machine."""

    key: Key
    value: Scalar | None = Field(None, description="None: it was not set")
    person: Text = Field("", description="The person whose it is; empty: the machine's")
    present: bool = True
    unread: Text = Field("", description="Why it could not be read")
    settable: bool = Field(True, description="Whether it can be changed from here")
    writable: bool = Field(True, description="Whether the agent has the right to")
    on_battery: bool = Field(
        False, description="The machine ran on its battery, and the setting is for plugged in"
    )


class Verdict(Value):
    """Whether one thing changes, and why or why not."""

    changes: bool
    reason: SkipReason | None = Field(None, description="Why it stays")
    detail: str = ""
    value: Scalar | None = Field(None, description="What it becomes, or an intent's words")
    source: Scope | None = Field(
        None, description="The scope whose rule decided; none: the notebook, or no rule"
    )
    needs_approval: bool = Field(False, description="Not without a person's approval")


def _stays(reason: SkipReason, detail: str = "", rule: InForce | None = None) -> Verdict:
    source = rule.source_of("leave" if rule.leave else "value") if rule else None
    return Verdict(changes=False, reason=reason, detail=detail, source=source)


def judge_setting(
    setting: Setting, seen: Seen, rule: InForce, answers: Answers, around: Circumstances
) -> Verdict:
    """What becomes of a setting of one value."""
    if not seen.present:
        return _stays(SkipReason.NOT_THERE)
    if seen.unread:
        return _stays(SkipReason.UNREAD, seen.unread)
    if rule.leave:
        return _stays(SkipReason.ASKED_FOR, rule=rule)
    if rule.value is None:
        return _stays(SkipReason.NO_WISH)
    if seen.value == rule.value and type(seen.value) is type(rule.value):
        return _stays(SkipReason.AS_WANTED, rule=rule)
    if (answered := _hangs(setting.depends_on, answers)) is not None:
        return answered
    if setting.plugged_in and (around.on_battery or seen.on_battery):
        return _stays(SkipReason.ON_BATTERY)
    if setting.disk_known and not around.disk_known:
        return _stays(SkipReason.DISK_NOT_KNOWN)
    if around.findings and (setting.could_cut_off or setting.goes_back is Reversibility.NONE):
        return _stays(SkipReason.FINDINGS_FIRST)
    if not seen.settable:
        return _stays(SkipReason.BY_HAND, rule=rule)
    if not seen.writable:
        return _stays(SkipReason.NO_RIGHT, rule=rule)
    return Verdict(
        changes=True,
        value=rule.value,
        source=rule.source_of("value"),
        needs_approval=setting.needs_approval,
    )


def judge_program(
    program: Program,
    known: KnownProgram | None,
    rule: InForce,
    answers: Answers,
    never: frozenset[str] = frozenset(),
) -> Verdict:
    """What becomes of a program that something starts.

    `never` are the keys that the machine's own guard adds. What is guarded or not known never
    changes, whatever a rule says.
    """
    if program.unread:
        return _stays(SkipReason.UNREAD, program.unread)
    if program.guarded or program.key in never:
        return _stays(SkipReason.GUARDED, program.guarded or "named by this machine's own guard")
    if known is None:
        return _stays(SkipReason.UNKNOWN)
    if rule.leave:
        return _stays(SkipReason.ASKED_FOR, rule=rule)
    wanted, source = _wanted(known, rule)
    if wanted is None:
        return _stays(SkipReason.NO_WISH, known.edit.description)
    wish, wanted = wanted, program.nearest(wanted)
    if program.now is wanted:
        return _stays(SkipReason.AS_WANTED)
    # a rule of a nearer scope is itself an answer; the shop's notebook asks first
    if source is None and (answered := _hangs(known.edit.depends_on, answers)) is not None:
        return answered
    if program.needed_by and wish is Intent.OFF:
        return _stays(SkipReason.NEEDED, ", ".join(program.needed_by))
    plan = program.plan(wanted)
    if not plan:
        return _stays(SkipReason.NOT_THERE, f"nothing of it can start it {wanted}")
    # what one person has laid out so keeps nothing of others from changing
    if by_hand := [
        switch.starter.key
        for switch in plan
        if switch.is_by_hand and (not switch.starter.person or all(s.is_by_hand for s in plan))
    ]:
        return _stays(SkipReason.BY_HAND, ", ".join(by_hand))
    exact = all(switch.starter.goes_back is Reversibility.EXACT for switch in plan)
    return Verdict(
        changes=True,
        value=wanted.value,
        source=source,
        needs_approval=wanted is Intent.OFF or not exact,
    )


def _wanted(known: KnownProgram, rule: InForce) -> tuple[Intent | None, Scope | None]:
    """When a program is to run, and the scope whose rule says so; none: the notebook does."""
    if rule.value is not None:
        return Intent(str(rule.value)), rule.source_of("value")
    return (None if known.edit.handling is ProgramDecision.STAYS else known.edit.intent), None


def _hangs(hangs: DependsOn | None, answers: Answers) -> Verdict | None:
    """Why it stays while it hangs on a question; None: the answer lets it change."""
    if hangs is None:
        return None
    answer = answers.get(hangs.question)
    if answer is None:
        return _stays(SkipReason.NO_ANSWER, hangs.question)
    return None if answer == hangs.on else _stays(SkipReason.ASKED_FOR, hangs.question)

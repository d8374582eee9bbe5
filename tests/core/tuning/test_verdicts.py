"""Which settings and programs change on a machine, and why the others stay."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import permutations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from phylax.core.ground.machines import System
from phylax.core.retention import Scope
from phylax.core.tuning.known import (
    KnownEdit,
    KnownProgram,
    ProgramDecision,
    Recognition,
    recognise,
)
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from phylax.core.tuning.rules import (
    InForce,
    ProgramRule,
    TuningRule,
    in_force,
    program_in_force,
)
from phylax.core.tuning.setting import (
    DependsOn,
    Kind,
    Setting,
    questions,
    read_setting,
    settings,
)
from phylax.core.tuning.verdicts import (
    Answers,
    Circumstances,
    Seen,
    SkipReason,
    judge_program,
    judge_setting,
)
from phylax.core.tuning.what_if import Looked, what_if

AT = datetime(2026, 3, 2, tzinfo=UTC)
ENTRY = Starter(key="entry", kind=StarterKind.SIGN_IN, on=True)
HELPER = Program(
    key="package:scan-helper", name="Scan helper", package="scan-helper", starters=(ENTRY,)
)
WHERE = Circumstances()


def known(id: int = 1, **edit: object) -> KnownProgram:
    shown = {
        "recognition": Recognition(package="scan-helper"),
        "name": "Scan helper",
        "handling": ProgramDecision.GOES,
        "intent": Intent.ON_DEMAND,
        **edit,
    }
    return KnownProgram(
        id=id, edit=KnownEdit.model_validate(shown), written_by="Wren Halloran", written_at=AT
    )


def rule(**says: object) -> InForce:
    return program_in_force([(Scope.MACHINE, ProgramRule.model_validate(says))])


# --- programs --------------------------------------------------------------------------------


def test_what_the_notebook_lets_go_changes_and_the_rest_says_why_not() -> None:
    none = InForce()
    verdict = judge_program(HELPER, known(), none, {})
    assert (verdict.changes, verdict.value, verdict.needs_approval) == (
        True,
        Intent.ON_DEMAND,
        False,
    )
    hangs = known(handling=ProgramDecision.HANGS, depends_on=DependsOn(question="scans", on="no"))
    cases = {
        SkipReason.UNKNOWN: judge_program(HELPER, None, none, {}),
        SkipReason.NO_WISH: judge_program(
            HELPER, known(handling=ProgramDecision.STAYS, intent=None), none, {}
        ),
        SkipReason.NO_ANSWER: judge_program(HELPER, hangs, none, {}),
        SkipReason.ASKED_FOR: judge_program(HELPER, hangs, none, {"scans": "yes"}),
        SkipReason.AS_WANTED: judge_program(HELPER, known(intent=Intent.AT_START), none, {}),
        SkipReason.UNREAD: judge_program(
            HELPER.model_copy(update={"unread": "no right"}), known(), none, {}
        ),
        SkipReason.NEEDED: judge_program(
            HELPER.model_copy(
                update={
                    "starters": (ENTRY.model_copy(update={"can_bar": True}),),
                    "needed_by": ("Printing",),
                }
            ),
            known(intent=Intent.OFF), none, {},
        ),
        SkipReason.BY_HAND: judge_program(HELPER, known(intent=Intent.AFTER_START), none, {}),
    }  # fmt: skip
    assert {reason: verdict.reason for reason, verdict in cases.items()} == {
        reason: reason for reason in cases
    }
    assert not any(verdict.changes for verdict in cases.values())
    assert judge_program(HELPER, hangs, none, {"scans": "no"}).changes


def test_a_rule_of_a_machine_is_itself_an_answer_and_leave_is_stronger_than_the_notebook() -> None:
    hangs = known(handling=ProgramDecision.HANGS, depends_on=DependsOn(question="scans", on="no"))
    verdict = judge_program(HELPER, hangs, rule(intent=Intent.ON_DEMAND), {})
    assert (verdict.changes, verdict.source) == (True, Scope.MACHINE)
    assert judge_program(HELPER, known(), rule(leave=True), {}).reason is SkipReason.ASKED_FOR


@given(
    intent=st.sampled_from(Intent),
    wish=st.sampled_from(Intent),
    answers=st.dictionaries(st.sampled_from([*questions()]), st.sampled_from(["yes", "no"])),
    guarded=st.booleans(),
)
def test_nothing_guarded_or_unknown_ever_changes(
    intent: Intent, wish: Intent, answers: Answers, guarded: bool
) -> None:
    program = HELPER.model_copy(update={"guarded": "drives the screen" if guarded else ""})
    never = frozenset() if guarded else frozenset({HELPER.key})
    for says in (InForce(), rule(intent=wish), rule(intent=wish, put_right=True)):
        assert judge_program(program, known(intent=intent), says, answers, never).reason is (
            SkipReason.GUARDED
        )
        assert judge_program(HELPER, None, says, answers).reason is SkipReason.UNKNOWN


def test_not_at_all_always_needs_a_yes() -> None:
    service = Starter(key="u", kind=StarterKind.START, on=True, can_bar=True)
    program = HELPER.model_copy(update={"starters": (service,)})
    assert judge_program(program, known(intent=Intent.OFF), InForce(), {}).needs_approval
    assert not judge_program(program, known(), InForce(), {}).needs_approval


# --- recognising -----------------------------------------------------------------------------


def test_a_name_or_a_path_alone_is_never_enough() -> None:
    for fields in ({"path": "/usr/bin/*"}, {"signed_by": "Corrin"}, {},
                   {"package": "a", "digest": "0" * 64}):  # fmt: skip
        with pytest.raises(ValidationError, match="is not enough"):
            Recognition.model_validate(fields)
    by_path = Recognition(signed_by="Corrin Ltd", path="C:/Program Files/Corrin/*")
    program = Program(key="k", name="helper.exe", path="c:\\program files\\corrin\\helper.exe")
    assert not by_path.fits(program), "the signature is missing"
    assert by_path.fits(program.model_copy(update={"signed_by": "Corrin Ltd"}))


def test_a_file_that_changed_is_judged_anew() -> None:
    program = Program(key="path:/opt/x", name="x", path="/opt/x", digest="ab" * 32)
    entry = known(recognition=Recognition(digest="ab" * 32))
    assert recognise(program, System.LINUX, [entry]) is entry
    assert (
        recognise(program.model_copy(update={"digest": "cd" * 32}), System.LINUX, [entry]) is None
    )


def test_the_newest_entry_of_this_system_counts() -> None:
    older, newer = known(1), known(2, handling=ProgramDecision.STAYS, intent=None)
    elsewhere = known(3, systems=[System.WINDOWS])
    assert recognise(HELPER, System.LINUX, [newer, elsewhere, older]) is newer


# --- settings of one value -------------------------------------------------------------------


def test_settings_and_questions_load_and_are_consistent() -> None:
    assert [setting.kind for setting in settings().values()].count(Kind.PROGRAMS) == 1
    for setting in settings().values():
        assert setting.notice.endswith(".") and setting.cost.endswith("."), setting.key
    assert all(question.text.endswith("?") for question in questions().values())


WAKE = settings()["wake-timers"]


def judged(setting: Setting, value: object, answers: Answers | None = None, **more: object):
    seen = Seen.model_validate({"key": setting.key, "value": value, **more})
    return judge_setting(setting, seen, wanting(setting.key, False), answers or {}, WHERE)


def wanting(key: str, value: object) -> InForce:
    return in_force(key, [(Scope.SHOP, TuningRule.model_validate({"value": value}))])


def test_a_setting_changes_only_where_its_question_is_answered_so() -> None:
    assert judged(WAKE, True).reason is SkipReason.NO_ANSWER
    assert judged(WAKE, True, {"runs-at-night": "yes"}).reason is SkipReason.ASKED_FOR
    verdict = judged(WAKE, True, {"runs-at-night": "no"})
    assert (verdict.changes, verdict.value, verdict.source) == (True, False, Scope.SHOP)
    assert judged(WAKE, None, {"runs-at-night": "no"}).changes, "was not set"
    assert judged(WAKE, False).reason is SkipReason.AS_WANTED, "nobody needs to be asked"


def test_circumstances_keep_a_setting() -> None:
    power, hibernation = settings()["power"], settings()["hibernation"]
    seen = Seen(key="power", value="even")
    want = wanting("power", "speed")
    assert judge_setting(power, seen, want, {}, WHERE).changes
    on_battery = Circumstances(on_battery=True)
    assert judge_setting(power, seen, want, {}, on_battery).reason is SkipReason.ON_BATTERY
    findings = Circumstances(findings=True)
    goes = judge_setting(
        hibernation,
        Seen(key="hibernation", value=True),
        wanting("hibernation", False),
        {},
        findings,
    )
    assert goes.reason is SkipReason.FINDINGS_FIRST
    for more, reason in (
        ({"present": False}, SkipReason.NOT_THERE),
        ({"unread": "no interface"}, SkipReason.UNREAD),
        ({"settable": False}, SkipReason.BY_HAND),
        ({"writable": False}, SkipReason.NO_RIGHT),
    ):
        assert judged(WAKE, True, {"runs-at-night": "no"}, **more).reason is reason
    assert judge_setting(power, seen, InForce(), {}, WHERE).reason is SkipReason.NO_WISH


def test_true_is_not_one() -> None:
    """A number that was read where a switch is wanted is not the value wanted."""
    seen = Seen(key="wake-timers", value=0)
    assert judge_setting(
        WAKE, seen, wanting("wake-timers", False), {"runs-at-night": "no"}, WHERE
    ).changes


@pytest.mark.parametrize(
    ("key", "value", "says"),
    [
        ("power", "turbo", "no choice of power: speed, even, battery"),
        ("processor-lowest", 4, "processor-lowest is 5 to 100 %, not 4"),
        ("processor-lowest", True, "not True"),
        ("play", 1, "play is true or false"),
        ("startup-programs", True, "many entries"),
    ],
)
def test_a_value_that_is_none_says_what_is_allowed(key: str, value: object, says: str) -> None:
    assert says in (settings()[key].why_not(value) or "")


def test_a_setting_file_that_contradicts_itself_is_refused() -> None:
    text = """
        key = "x"
        order = 1
        name = "X"
        notice = "n."
        cost = "c."
        systems = ["linux"]
    """
    for wrong, says in (
        ('kind = "choice"', "lists its choices"),
        ('kind = "number"', "a least and a most"),
        ('kind = "switch"\ngoes_back = "none"', "always needs approval"),
        ('kind = "switch"\ndefault = 3', "the rule it ships with is none"),
    ):
        with pytest.raises(ValidationError, match=says):
            read_setting(text + wrong)


# --- rules -----------------------------------------------------------------------------------

rules = st.builds(
    ProgramRule,
    leave=st.none() | st.booleans(),
    intent=st.none() | st.sampled_from(Intent),
    put_right=st.none() | st.booleans(),
)


@given(st.lists(rules, min_size=3, max_size=3))
def test_rules_merge_alike_in_any_order(says: list[ProgramRule]) -> None:
    scoped = list(zip((Scope.SHOP, Scope.CLIENT, Scope.MACHINE), says, strict=True))
    merged = {program_in_force(order).model_dump_json() for order in permutations(scoped)}
    assert len(merged) == 1


def test_the_nearest_says_it_and_a_nearer_wish_lifts_a_farther_leave() -> None:
    shop = (Scope.SHOP, ProgramRule(leave=True, put_right=True))
    client = (Scope.CLIENT, ProgramRule(intent=Intent.AFTER_START))
    merged = program_in_force([client, shop])
    assert (merged.leave, merged.value, merged.put_right) == (False, Intent.AFTER_START, True)
    assert merged.source_of("value") is Scope.CLIENT
    assert merged.source_of("put_right") is Scope.SHOP
    nearer = (Scope.MACHINE, ProgramRule(leave=True))
    assert program_in_force([nearer, client, shop]).leave


# --- what if ---------------------------------------------------------------------------------

CHANGED = Program(key="path:/opt/x", name="x", path="/opt/x", starters=(ENTRY,))


@st.composite
def looked(draw: st.DrawFn) -> list[Looked]:
    programs = [HELPER, CHANGED, HELPER.model_copy(update={"guarded": "network"})]
    return [
        Looked(
            machine_id=number,
            system=draw(st.sampled_from(System)),
            programs=tuple(
                draw(st.lists(st.sampled_from(programs), max_size=2, unique_by=lambda p: p.key))
            ),
            answers=draw(st.sampled_from([{}, {"scans": "yes"}, {"scans": "no"}])),
            rules=draw(
                st.sampled_from(
                    [{}, {HELPER.key: rule(leave=True)}, {CHANGED.key: rule(intent="on demand")}]
                )
            ),
            never=draw(st.sampled_from([frozenset(), frozenset({HELPER.key})])),
        )
        for number in range(draw(st.integers(0, 6)))
    ]


@given(looked())
def test_what_if_says_what_a_look_then_says(machines: list[Looked]) -> None:
    notebook = [
        known(1, handling=ProgramDecision.HANGS, depends_on=DependsOn(question="scans", on="no")),
        known(2, systems=[System.MACOS]),
    ]
    lines = {line.program: line for line in what_if(machines, notebook)}
    for machine in machines:
        for program in machine.programs:
            verdict = judge_program(
                program, recognise(program, machine.system, notebook),
                machine.rules.get(program.key, InForce()), machine.answers, machine.never,
            )  # fmt: skip
            line = lines[program.key]
            assert (machine.machine_id in line.changes_on) == verdict.changes
            if not verdict.changes:
                assert machine.machine_id in line.kept_on[verdict.reason or ""]
    changed = sum(len(line.changes_on) for line in lines.values())
    stayed = sum(len(ids) for line in lines.values() for ids in line.kept_on.values())
    assert changed + stayed == sum(len(machine.programs) for machine in machines)


@pytest.mark.parametrize(
    "more",
    [
        {"never": frozenset({HELPER.key})},
        {"rules": {HELPER.key: rule(leave=True)}},
        {"answers": {"scans": "yes"}},
        {"system": System.MACOS},
    ],
    ids=str,
)
def test_what_if_takes_no_machine_for_another(more: dict[str, object]) -> None:
    notebook = [
        known(1, handling=ProgramDecision.HANGS, depends_on=DependsOn(question="scans", on="no")),
        known(2, systems=[System.MACOS], handling=ProgramDecision.STAYS, intent=None),
    ]
    plain: dict[str, object] = {
        "system": System.LINUX, "programs": (HELPER,), "answers": {"scans": "no"},
    }  # fmt: skip
    machines = [
        Looked(machine_id=1, **plain),  # type: ignore[arg-type]
        Looked(machine_id=2, **{**plain, **more}),  # type: ignore[arg-type]
    ]
    (line,) = what_if(machines, notebook)
    assert line.changes_on == (1,)
    assert [*line.kept_on.values()] == [(2,)]

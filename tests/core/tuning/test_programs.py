"""What an intent makes of everything that starts a program."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind, Switch

ASKED = [StarterKind.SOCKET, StarterKind.MESSAGE, StarterKind.PATH, StarterKind.DEVICE]


@st.composite
def starters(draw: st.DrawFn) -> Starter:
    """One as a machine could have it: what is barred is off, what is later is a main one."""
    kind = draw(st.sampled_from(StarterKind))
    is_main = kind in (StarterKind.SIGN_IN, StarterKind.START)
    can_bar = kind is StarterKind.START and draw(st.booleans())
    on = draw(st.booleans())
    return Starter(
        key=draw(st.uuids()).hex,
        kind=kind,
        on=on,
        later=on and is_main and draw(st.booleans()),
        can_wait=is_main,
        can_bar=can_bar,
        barred=can_bar and not on and draw(st.booleans()),
    )


programs = st.builds(
    Program,
    key=st.just("package:helper"),
    name=st.just("Helper"),
    starters=st.lists(starters()).map(tuple),
)


def after(program: Program, plan: tuple[Switch, ...]) -> Program:
    """The program once each switch of a plan is set."""
    switches = {switch.starter.key: switch for switch in plan}
    made = []
    for starter in program.starters:
        if (switch := switches.get(starter.key)) is not None:
            starter = starter.model_copy(
                update={"on": switch.on, "later": switch.later, "barred": switch.barred}
            )
        made.append(starter)
    return program.model_copy(update={"starters": tuple(made)})


@given(programs, st.sampled_from(Intent))
def test_a_plan_makes_the_intent_true_or_is_empty(program: Program, intent: Intent) -> None:
    plan = program.plan(intent)
    changed = after(program, plan)
    if not plan:
        return
    can_be_opened = any(s.kind is StarterKind.SIGN_IN for s in program.starters)
    nothing_to_bar = not any(s.can_bar or not s.is_unasked for s in program.starters)
    if intent is Intent.OFF and (can_be_opened or nothing_to_bar):
        assert changed.now is Intent.ON_DEMAND
    else:
        assert changed.now is intent
    assert changed.plan(intent) == (), "and then there is nothing more to do"


@given(programs, st.sampled_from(Intent))
def test_nothing_is_switched_that_is_so_already(program: Program, intent: Intent) -> None:
    for switch in program.plan(intent):
        now = switch.starter
        assert (switch.on, switch.later, switch.barred) != (now.on, now.later, now.barred)


@given(programs)
def test_not_at_all_leaves_nothing_that_starts_it(program: Program) -> None:
    plan = program.plan(Intent.OFF)
    if not plan:
        # so already, or nothing keeps a person from opening it: the nearest that can be had counts
        nearest = program.nearest(Intent.OFF)
        assert nearest is (Intent.OFF if program.now is Intent.OFF else Intent.ON_DEMAND)
        return
    changed = after(program, plan)
    assert not any(starter.on for starter in changed.starters)
    assert all(starter.barred for starter in changed.starters if starter.can_bar)


def service(**more: object) -> Starter:
    return Starter.model_validate(
        {"key": "unit", "kind": StarterKind.START, "on": True, "can_bar": True, **more}
    )


@pytest.mark.parametrize("kind", ASKED)
def test_when_asked_keeps_what_asks_for_it(kind: StarterKind) -> None:
    ask = Starter(key="asks", kind=kind, on=True)
    program = Program(key="k", name="n", starters=(service(), ask))
    (switch,) = program.plan(Intent.ON_DEMAND)
    assert (switch.starter.key, switch.on, switch.barred) == ("unit", False, False)


def test_a_service_that_is_off_but_not_barred_can_be_asked() -> None:
    program = Program(key="k", name="n", starters=(service(on=False),))
    assert program.now is Intent.ON_DEMAND
    (switch,) = program.plan(Intent.OFF)
    assert switch.barred


def test_a_timer_may_wait_and_nothing_makes_it_start_with_the_machine() -> None:
    timer = Starter(key="t", kind=StarterKind.TIMER, on=True, when="daily")
    program = Program(key="k", name="n", starters=(timer,))
    assert program.now is Intent.AFTER_START
    assert program.plan(Intent.AT_START) == ()


def test_what_cannot_start_later_is_by_hand() -> None:
    program = Program(key="k", name="n", starters=(service(),))
    (switch,) = program.plan(Intent.AFTER_START)
    assert switch.is_by_hand
    (switch,) = Program(key="k", name="n", starters=(service(settable=False),)).plan(
        Intent.ON_DEMAND
    )
    assert switch.is_by_hand

"""What needs a person, in order, each with evidence and the next step."""

from datetime import UTC, datetime, timedelta

import pytest

from helpers import TUESDAY
from phylax.core.attention import (
    Attention,
    Cause,
    HeldOn,
    KeptFinding,
    MachineCondition,
    NextStep,
    in_order,
    is_worse,
    keep,
    look,
)
from phylax.core.attention.kept_young import KeptYoung, kept_young
from phylax.core.attention.today import in_a_sentence
from phylax.core.clients.shop import Machine, Volume
from phylax.core.ground.tally import Tally
from phylax.core.retention import Rule, Scope, in_force
from phylax.core.runs.runs import Run, RunState
from phylax.core.scheduling.rounds import Round
from phylax.core.survey import LineCount, Survey, SurveyKind
from phylax.core.trends import (
    Advice,
    Crossing,
    Grown,
    Help,
    IntervalVerdict,
    Outlook,
    PaceChange,
    Rate,
)

NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)
LITTLE, MUCH = Tally(count=1, size=3), Tally(count=1, size=20)


def standing(used: int = 50, state: RunState | None = None, **more: object) -> MachineCondition:
    seen = more.pop("seen", NOW)
    machine = Machine(
        id=1, tag="vet-xray", client_id=1, client_name="Gannet Row", system="windows", version=1,
        enrolled=True, seen_at=seen,
        volumes=(Volume(id=1, mount="C:", capacity=1000, free=1000 - 10 * used),),
    )  # fmt: skip
    run = state and Run(
        id=7, machine_id=1, machine_tag="vet-xray", client_name="Gannet Row", work="clean",
        state=state, reason="why", made_by="Ines", made_at=NOW, due_at=NOW, ended_at=NOW,
    )  # fmt: skip
    return MachineCondition(
        machine=machine, now=NOW, threshold_percent=90, last_run=run or None, **more
    )


def needs_attention(standings: list[MachineCondition]) -> list[Attention]:
    """As it is kept: each with its number."""
    findings = [finding for standing in standings for finding in look(standing)]
    return in_order(
        Attention.model_validate(finding.model_dump() | {"id": number, "since": NOW})
        for number, finding in enumerate(findings, 1)
    )


def doubted(*, hours: float) -> MachineCondition:
    one = standing()
    doubt = {
        "clock_doubt": "its clock is 900 s behind what it was",
        "clock_doubt_since": NOW - timedelta(hours=hours),
    }
    return one.model_copy(update={"machine": one.machine.model_copy(update=doubt)})


def young(*, days: float) -> MachineCondition:
    kept = KeptYoung(
        category="user-temp", mount="C:", count=9, size=2**30, since=NOW - timedelta(days=days),
        last=NOW,
    )  # fmt: skip
    return standing(kept_young=(kept,))


@pytest.mark.parametrize(
    ("found", "cause", "step"),
    [
        (standing(91), Cause.NEARLY_FULL, NextStep.LOOK),
        (standing(91, surveyed_at=NOW, removable=MUCH), Cause.NEARLY_FULL, NextStep.CLEAN),
        (standing(94, surveyed_at=NOW, removable=LITTLE), Cause.NEARLY_FULL, NextStep.ASK_CLIENT),
        (standing(state=RunState.FAILED), Cause.RUN_FAILED, NextStep.RUN_AGAIN),
        (standing(state=RunState.PARTLY), Cause.LEFT, NextStep.LOOK),
        (standing(state=RunState.MISSED, missed_in_a_row=3), Cause.MISSED, NextStep.RUN_AGAIN),
        (standing(needs_approval=MUCH), Cause.WAITS_FOR_YES, NextStep.DECIDE),
        (standing(seen=NOW - timedelta(days=8)), Cause.SILENT, NextStep.ASK_CLIENT),
        (doubted(hours=2), Cause.CLOCK_DOUBTED, NextStep.ASK_CLIENT),
        (young(days=1), Cause.KEPT_YOUNG, NextStep.LOOK),
    ],
)
def test_each_cause_by_example(found: MachineCondition, cause: Cause, step: NextStep) -> None:
    (attention,) = look(found)
    assert (attention.cause, attention.next_step) == (cause, step)
    assert attention.evidence


@pytest.mark.parametrize(
    "fine",
    [
        standing(90),
        standing(state=RunState.DONE),
        standing(state=RunState.MISSED, missed_in_a_row=1),
        standing(needs_approval=Tally()),
        standing(seen=NOW - timedelta(days=6)),
    ],
)
def test_what_is_fine_needs_nobody(fine: MachineCondition) -> None:
    assert look(fine) == []


OUTLOOK = Outlook(
    volume_id=1, machine_id=1, mount="C:", made_at=NOW, read_at=NOW, threshold_percent=90,
    fill_rate=Rate(low=1, likely=2 * 2**30, high=3 * 2**30),
    crosses=Crossing(
        soonest=NOW + timedelta(days=5), likely=NOW + timedelta(days=9),
        latest=NOW + timedelta(days=14),
    ),
    full=Crossing(likely=NOW + timedelta(days=20)),
)  # fmt: skip
FASTER = PaceChange(
    since=NOW - timedelta(days=9), before=0, now=3 * 2**30, looked=True,
    grown=(Grown(category="downloads", name="Download folders", size=27 * 2**30),),
)  # fmt: skip
HELD = HeldOn(mount="C:", size=100, since=NOW, until=NOW + timedelta(days=9))


def outlook(**more: object) -> tuple[Outlook, ...]:
    return (OUTLOOK.model_copy(update=more),)


def clock_off(seconds: int) -> MachineCondition:
    one = standing()
    machine = one.machine.model_copy(update={"clock_off": seconds, "clock_off_since": NOW})
    return one.model_copy(update={"machine": machine})


def agent_of(version: str) -> MachineCondition:
    one = standing(newest_agent="0.10.0")
    machine = one.machine.model_copy(update={"agent_version": version})
    return one.model_copy(update={"machine": machine})


@pytest.mark.parametrize(
    ("found", "cause", "says"),
    [
        (standing(outlooks=outlook()), Cause.CROSSES_SOON, "likely full on 22 Mar"),
        (standing(outlooks=outlook(crosses=None, changed=FASTER)), Cause.FILLING_FAST,
         "What grew: Download folders by 27.0 GiB"),
        (standing(outlooks=outlook(
            crosses=None, changed=FASTER.model_copy(update={"grown": ()}))), Cause.FILLING_FAST,
         "No category grew"),
        (clock_off(-7200), Cause.CLOCK_WRONG, "Readings are corrected"),
        (agent_of("0.9.1"), Cause.AGENT_OLD, "newer versions can do"),
    ],
)  # fmt: skip
def test_what_is_foreseen_and_what_is_wrong_about_a_machine(
    found: MachineCondition, cause: Cause, says: str
) -> None:
    (attention,) = look(found)
    assert attention.cause is cause and says in attention.evidence


def test_a_hold_that_fills_a_volume_is_named_beside_it() -> None:
    findings = look(standing(95, held=(HELD,)))
    assert [finding.cause for finding in findings] == [Cause.NEARLY_FULL, Cause.HOLD_FILLS]
    assert look(standing(60, held=(HELD,))) == []


def test_what_would_help_is_said_where_cleaning_does_not() -> None:
    advice = Advice(
        weeks=None, now_weeks=1.0, verdict=IntervalVerdict.CANNOT_HELP, helps=Help.LARGER_DISK,
        text="94 % is in use. Cleaning cannot help: a disk of 2 TB would do for two years.",
    )  # fmt: skip
    (finding,) = look(standing(94, surveyed_at=NOW, removable=LITTLE, outlooks=outlook(
        over=True, crosses=None, advice=advice, over_since=NOW - timedelta(days=40))))  # fmt: skip
    assert "A disk of 2 TB would do for two years" in finding.evidence
    assert "Likely full on 22 Mar" in finding.evidence
    assert finding.since == NOW - timedelta(days=40)


@pytest.mark.parametrize(
    "fine",
    [
        standing(outlooks=outlook(crosses=Crossing(likely=NOW + timedelta(days=31)))),
        standing(outlooks=outlook(
            crosses=None, changed=FASTER.model_copy(update={"since": NOW - timedelta(days=60)}))),
        clock_off(200),
        agent_of("0.10.0"),
        agent_of("0.11"),
        standing(seen=NOW - timedelta(days=9), awake_since=NOW - timedelta(days=6)),
    ],
)  # fmt: skip
def test_what_lies_far_off_or_was_our_own_doing_needs_nobody(fine: MachineCondition) -> None:
    assert look(fine) == []


# --- how findings live on --------------------------------------------------------------------

HOUR = 3600


def kept(**more: object) -> KeptFinding:
    known = {"id": 1, "cause": Cause.NEARLY_FULL, "subject": "C:", "grade": 910, "last_seen": 0}
    return KeptFinding(**(known | more))  # type: ignore[arg-type]


def test_a_finding_begins_goes_on_and_ends() -> None:
    full = look(standing(91))
    assert keep(full, [], 0).begin == full
    assert [before.id for before, _ in keep(full, [kept()], HOUR).still] == [1]
    assert [one.id for one in keep([], [kept()], HOUR).end] == [1]


def test_one_that_is_back_within_a_day_is_the_same_one() -> None:
    full = look(standing(91))
    again = keep(full, [kept(ended_at=HOUR)], 20 * HOUR)
    assert [before.id for before, _ in again.again] == [1] and not again.begin
    assert keep(full, [kept(ended_at=HOUR)], 30 * HOUR).begin == full


def test_one_that_flaps_stays_until_it_was_away_for_a_day() -> None:
    flapping = kept(times=3, last_seen=100 * HOUR)
    assert keep([], [flapping], 110 * HOUR).end == []
    assert keep([], [flapping], 125 * HOUR).end == [flapping]


def test_worse_is_a_matter_of_its_own_kind() -> None:
    assert not is_worse(Cause.NEARLY_FULL, 910, 925)
    assert is_worse(Cause.NEARLY_FULL, 910, 930)
    assert is_worse(Cause.RUN_FAILED, 7, 8)
    assert not is_worse(Cause.RUN_FAILED, None, 8)


def test_the_same_on_many_machines_of_a_client_is_one_thing() -> None:
    def attention(number: int, client: int, cause: Cause, urgency: int) -> Attention:
        return Attention(
            id=number, cause=cause, urgency=urgency, machine_id=number, machine_tag=f"m{number}",
            client_id=client, client_name="c", since=NOW, reason="r", evidence="e",
            next_step=NextStep.LOOK,
        )  # fmt: skip

    silent = [attention(n, 4, Cause.SILENT, 50) for n in (1, 2, 3)]
    other = attention(4, 4, Cause.SILENT, 50).model_copy(update={"client_id": 5})
    more = attention(9, 4, Cause.RUN_FAILED, 80).model_copy(update={"machine_id": 1})
    items = in_order([*silent, other, more])
    assert [one.group for one in items] == [
        "machine 1", "client 4: silent", "client 4: silent", "client 4: silent", "machine 4",
    ]  # fmt: skip


def test_the_fullest_comes_first() -> None:
    items = needs_attention([standing(state=RunState.PARTLY), standing(97), standing(92)])
    assert [a.reason for a in items][:2] == ["C: is 97 % full", "C: is 92 % full"]


def test_the_shop_in_a_sentence() -> None:
    round_ = Round(
        id=1, name="r", plan=TUESDAY, routine_name="Light weekly", how_often="", machines=1,
        version=1, next_at=NOW + timedelta(hours=9),
    )  # fmt: skip
    assert (
        in_a_sentence([], [], NOW) == "Nothing needs attention. No round runs in the next 24 hours."
    )
    assert in_a_sentence(needs_attention([standing(92)]), [round_] * 2, NOW) == (
        "One machine needs attention. Two rounds run in the next 24 hours, the first at 18:00."
    )


@pytest.mark.parametrize("nothing", [doubted(hours=0.5), young(days=0.5)])
def test_what_passes_by_itself_needs_nobody(nothing: MachineCondition) -> None:
    assert look(nothing) == []


def test_what_attributes_alone_keep_young_is_followed_from_look_to_look() -> None:
    rule = in_force([(Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=1)))])

    def survey(day: int, young: int) -> Survey:
        line = LineCount(0).line("user-temp", "C:", rule, capacity=0, free=0)
        sums = {
            "total": Tally(count=9, size=100),
            "young_by_attributes": Tally(count=5, size=young),
        }
        at = NOW + timedelta(days=day)
        return Survey(
            id=day, machine_id=1, run_id=day, kind=SurveyKind.FIRST, started_at=at, ended_at=at,
            lines=(line.model_copy(update=sums),),
        )  # fmt: skip

    assert kept_young(survey(0, 50)) == ()  # half is not most
    first = kept_young(survey(0, 51))
    assert not first[0].again_and_again
    (second,) = kept_young(survey(1, 80), first)
    assert (second.since, second.size, second.again_and_again) == (NOW, 80, True)
    assert kept_young(survey(2, 10), (second,)) == ()

"""Quiet hours, retries, addresses; and machines' clocks that are wrong."""

from __future__ import annotations

from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

import pytest
from pydantic import ValidationError

from phylax.core.attention.notices import (
    RETRIES,
    HookEdit,
    MailServerEdit,
    Wishes,
    WishesEdit,
    retry_at,
)
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.ground.values import to_seconds
from phylax.core.protocol import Awake, ReadingsMessage, ResultMessage, clocks

DUBLIN = ZoneInfo("Europe/Dublin")
NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)


def quiet(begin: str, end: str) -> Wishes:
    return Wishes(
        person_id=1, person_name="Wren",
        quiet_from=time.fromisoformat(begin), quiet_until=time.fromisoformat(end),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("wishes", "at", "until"),
    [
        (quiet("19:00", "07:30"), "2026-03-02T22:00", "2026-03-03T07:30"),
        (quiet("19:00", "07:30"), "2026-03-03T02:00", "2026-03-03T07:30"),
        (quiet("19:00", "07:30"), "2026-03-03T07:30", None),
        (quiet("19:00", "07:30"), "2026-03-03T18:59", None),
        (quiet("12:00", "13:00"), "2026-03-03T12:30", "2026-03-03T13:00"),
        (quiet("12:00", "13:00"), "2026-03-03T09:30", None),
        (Wishes(person_id=1, person_name="Wren"), "2026-03-03T03:00", None),
    ],
)
def test_quiet_hours_also_over_midnight(wishes: Wishes, at: str, until: str | None) -> None:
    found = wishes.quiet_end(datetime.fromisoformat(at).replace(tzinfo=DUBLIN))
    assert (found and found.isoformat("T", "minutes")[:16]) == until


def test_tries_grow_apart_and_end() -> None:
    again = [retry_at(tries, NOW) for tries in range(1, len(RETRIES) + 2)]
    known = [at for at in again if at is not None]
    assert known == sorted(known) and again[-1] is None


@pytest.mark.parametrize(
    ("kind", "values"),
    [
        (WishesEdit, {"mail": "nobody"}),
        (WishesEdit, {"mail": "a b@c.example"}),
        (WishesEdit, {"mail": "a@c.example", "quiet_from": "19:00"}),
        (HookEdit, {"name": "x", "url": "http://10.0.0.9/in"}),
        (HookEdit, {"name": "x", "url": "ftp://board.example/in"}),
        (MailServerEdit,
         {"host": "mail.example", "security": "none", "sender": "a@b.example"}),
    ],
)  # fmt: skip
def test_what_cannot_work_is_refused(kind: type, values: dict[str, str]) -> None:
    with pytest.raises(ValidationError):
        kind(**values)


# --- clocks ----------------------------------------------------------------------------------


def message(at: datetime) -> ReadingsMessage:
    reading = ReadingIn(mount="/", capacity=100, free=50, at=at)
    awake = Awake(at=at, since=at - timedelta(hours=3), booted_at=at - timedelta(hours=4))
    return ReadingsMessage(id="12345678", readings=(reading,), awake=awake)


@pytest.mark.parametrize("wrong", [timedelta(days=-4000), timedelta(hours=2), timedelta(days=30)])
def test_a_wrong_clock_is_noticed_and_set_right_however_late_the_message_comes(
    wrong: timedelta,
) -> None:
    waited = timedelta(hours=30)
    sent = message(NOW - waited + wrong)
    off = clocks.offset(sent.awake.at, waited.total_seconds(), to_seconds(NOW))
    assert off == wrong.total_seconds()
    right = clocks.set_right(sent, off)
    assert isinstance(right, ReadingsMessage) and right.awake is not None
    assert right.readings[0].at == NOW - waited == right.awake.at
    assert right.awake.booted_at == NOW - waited - timedelta(hours=4)


def test_a_clock_that_is_nearly_right_is_left_alone() -> None:
    assert clocks.offset(NOW + timedelta(seconds=90), 0.0, to_seconds(NOW)) == 0


def test_results_are_set_right_too() -> None:
    result = ResultMessage(
        id="12345678", run_id=1, started_at=NOW, ended_at=NOW + timedelta(minutes=5),
        after=(ReadingIn(mount="/", capacity=9, free=1, at=NOW),),
    )  # fmt: skip
    right = clocks.set_right(result, 3600)
    assert isinstance(right, ResultMessage)
    assert right.ended_at == NOW - timedelta(minutes=55) and right.after[0].at < NOW


def test_times_that_cannot_be_are_left_out() -> None:
    given = [NOW - timedelta(days=500), NOW - timedelta(days=1), NOW + timedelta(days=1)]
    (readings,) = by_volume(
        ReadingIn(mount="/", capacity=9, free=n, at=at) for n, at in enumerate(given)
    )
    kept = clocks.believable(readings, to_seconds(NOW))
    assert kept is not None and (kept.at, kept.free) == ((to_seconds(given[1]),), (1,))
    none = readings.model_copy(update={"at": readings.at[:1], "free": (0,)})
    assert clocks.believable(none, to_seconds(NOW)) is None

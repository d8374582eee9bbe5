"""What was read while the service was out of reach goes in one message."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from phylax.agent.outbox.merging import Single, gathered
from phylax.core.ground.readings import ReadingIn
from phylax.core.protocol import Asleep, Awake, ReadingsMessage, UnheldMessage

START = datetime(2026, 3, 2, 6, tzinfo=UTC)
HOUR = timedelta(hours=1)


def single(
    hour: int,
    *,
    since: datetime = START,
    age: float | None = 0.0,
    clock: timedelta = timedelta(),
    volumes: int = 2,
    capacity: int = 1000,
    slept: Sequence[Asleep] = (),
) -> Single:
    at = START + hour * HOUR + clock
    message = ReadingsMessage(
        id=f"message-{hour:04d}",
        readings=tuple(
            ReadingIn(mount="CDEFGHIJ"[n] + ":", capacity=capacity, free=900 - hour, at=at)
            for n in range(volumes)
        ),
        awake=Awake(at=at, since=since, slept=tuple(slept)),
    )
    return Single(Path(f"{hour:012d}.json"), message, None if age is None else age - 3600 * hour)


def test_neighbouring_readings_are_one_message_with_all_that_they_say() -> None:
    nap = Asleep(begin=START, end=START + HOUR)
    (waiting,) = gathered([single(0, slept=[nap]), single(1), single(2)])
    assert isinstance(waiting.message, ReadingsMessage) and len(waiting.of) == 3
    assert [(v.mount, v.free) for v in waiting.message.volumes] == [
        ("C:", (900, 899, 898)), ("D:", (900, 899, 898)),
    ]  # fmt: skip
    assert waiting.message.volumes[0].at[2] - waiting.message.volumes[0].at[0] == 7200
    assert waiting.message.awake is not None and waiting.message.awake.slept == (nap,)
    assert waiting.message.id == "message-0002" and waiting.age == -7200.0


def test_other_messages_keep_their_place_between_them() -> None:
    other = Single(Path("x"), UnheldMessage.model_construct(id="12345678"), None)
    messages = list(gathered([single(0), single(1), other, single(2)]))
    assert [len(waiting.of) for waiting in messages] == [2, 1, 1]
    assert (
        messages[1].message is other.message and messages[2].of[0].path.name == "000000000002.json"
    )


def test_what_another_start_or_another_clock_says_stays_apart() -> None:
    started_again = START + timedelta(minutes=30)
    messages = list(
        gathered(
            [
                single(0), single(1),
                single(2, since=started_again),
                single(3, since=started_again, clock=timedelta(days=1)),
                single(4, since=started_again, clock=timedelta(days=1), age=None),
            ]
        )
    )  # fmt: skip
    assert [len(waiting.of) for waiting in messages] == [2, 1, 1, 1]


def test_a_volume_that_was_resized_is_two_series() -> None:
    (waiting,) = gathered([single(0), single(1, capacity=2000)])
    assert isinstance(waiting.message, ReadingsMessage)
    assert [(v.mount, v.capacity) for v in waiting.message.volumes] == [
        ("C:", 1000), ("D:", 1000), ("C:", 2000), ("D:", 2000),
    ]  # fmt: skip


def test_a_message_grows_no_larger_than_is_taken() -> None:
    messages = list(gathered(single(n, volumes=8) for n in range(400)))
    assert [len(waiting.of) for waiting in messages] == [250, 150]
    for waiting in messages:
        # what was put together is again a message the service takes
        ReadingsMessage.model_validate_json(waiting.message.model_dump_json())

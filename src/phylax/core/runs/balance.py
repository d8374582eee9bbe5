"""What a cleaning promised, did, and came to on the volumes; and why these differ."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from pydantic import Field

from phylax.core.catalogue import catalogue
from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Value
from phylax.core.protocol import CategoryOutcome
from phylax.core.retention import Reason

_COMPRESSING = frozenset({"btrfs", "zfs", "ntfs", "ntfs3", "apfs", "bcachefs"})
_OPEN = (Reason.IN_USE, Reason.PROGRAM_OPEN)
_WORTH_BYTES, _WORTH_SHARE = 2**20, 100
"""A difference is explained from so many bytes on, and from one part in so many."""


class Balance(Value):
    """The sums of one cleaning, and in words why they differ."""

    promised: Tally | None = Field(description="What the survey before it said would be removed")
    removed: Tally
    held: Tally
    left: Tally = Field(description="What should have gone and did not")
    linked: Tally = Field(description="Names that went while the file has others: frees nothing")
    freed: int | None = Field(description="Bytes more free on the volumes, after against before")
    why: tuple[str, ...]


def balance(
    promised: Tally | None,
    outcomes: Sequence[CategoryOutcome],
    before: Iterable[ReadingIn],
    after: Iterable[ReadingIn],
    *,
    uncertain: bool = False,
) -> Balance:
    """Add up what became of each category, and explain what is left unequal. `uncertain`: the agent
    was cut off and could not count everything."""
    removed = sum((outcome.removed for outcome in outcomes), Tally())
    held = sum((outcome.held for outcome in outcomes), Tally())
    linked = sum((outcome.linked for outcome in outcomes), Tally())
    before, after = tuple(before), tuple(after)
    freed = freed_on_volumes(before, after)
    why = [*_against_promise(promised, removed, held, outcomes)]
    if uncertain:
        why.append("The agent was interrupted: slightly more may have been removed than reported.")
    if freed is not None:
        compressing = any(reading.file_system in _COMPRESSING for reading in before)
        why += _against_volumes(freed, removed, held, linked, outcomes, compressing=compressing)
    return Balance(
        promised=promised,
        removed=removed,
        held=held,
        left=_stuck(outcomes),
        linked=linked,
        freed=freed,
        why=tuple(why),
    )


def freed_on_volumes(before: Iterable[ReadingIn], after: Iterable[ReadingIn]) -> int | None:
    """Bytes more free after than before over the volumes in both; None without any."""
    free_before = {reading.mount: reading.free for reading in before}
    gains = [r.free - free_before[r.mount] for r in after if r.mount in free_before]
    return sum(gains) if gains else None


def _stuck(outcomes: Iterable[CategoryOutcome]) -> Tally:
    stays = [stay for outcome in outcomes for stay in outcome.left if stay.reason.should_have_gone]
    return Tally(count=sum(s.count for s in stays), size=sum(s.size for s in stays))


def _matters(size: int, of: int) -> bool:
    return abs(size) >= max(_WORTH_BYTES, of // _WORTH_SHARE)


def _against_promise(
    promised: Tally | None, removed: Tally, held: Tally, outcomes: Sequence[CategoryOutcome]
) -> Iterable[str]:
    by_reason: dict[str, Tally] = {}
    for outcome in outcomes:
        for stay in outcome.left:
            if stay.reason.should_have_gone:
                so_far = by_reason.get(stay.reason, Tally())
                by_reason[stay.reason] = so_far + Tally(count=stay.count, size=stay.size)
    for reason, stayed in by_reason.items():
        yield f"{count(stayed.count, 'item')}, {show_size(stayed.size)}, left: {reason}."
    if promised is None:
        return
    # what was open may have been so in the survey as well, and was not promised then
    was_open = sum(by_reason[reason].size for reason in _OPEN if reason in by_reason)
    stuck = sum(stayed.size for stayed in by_reason.values()) - was_open
    more = removed.size + held.size + stuck - promised.size
    less = -more - was_open
    if more > 0 and _matters(more, promised.size):
        yield f"{show_size(more)} more than expected: new since the survey."
    elif less > 0 and _matters(less, promised.size):
        yield f"{show_size(less)} less than expected: gone or changed since the survey."


def _against_volumes(
    freed: int,
    removed: Tally,
    held: Tally,
    linked: Tally,
    outcomes: Sequence[CategoryOutcome],
    *,
    compressing: bool,
) -> Iterable[str]:
    if held.count:
        yield f"{show_size(held.size)} is held and becomes free only when it is removed for good."
    if linked.count:
        yield (
            f"{count(linked.count, 'removed name')} were hard links of files with other names: "
            f"{show_size(linked.size)} stays in use."
        )
    rows = sum(outcome.removed.size for outcome in outcomes if _is_in_tables(outcome.category))
    if rows:
        yield (
            f"{show_size(rows)} was in the browsers' own databases, whose files keep their size."
        )
    less = removed.size - rows - freed
    if not _matters(less, removed.size):
        return
    if less < 0:
        yield f"{show_size(-less)} more was freed: other programs removed files as well."
    elif compressing:
        yield (
            f"{show_size(less)} less was freed: the volume compresses some files, or other "
            "programs wrote in the meantime."
        )
    else:
        yield f"{show_size(less)} less was freed: other programs wrote in the meantime."


def _is_in_tables(key: str) -> bool:
    kind = catalogue().get(key)
    return kind is not None and kind.shape in ("sites", "visits")

"""How often a machine should be cleaned, whether that helps at all, and what else would."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import NormalDist

from phylax.core.ground.quantities import show_size
from phylax.core.trends.outlook import CHANCE, Advice, Help, IntervalVerdict

STEPS = (1, 2, 4, 8, 12)
"""Weeks people use."""
AHEAD_DAYS = 90
_SAFE = NormalDist().inv_cdf((1 + CHANCE) / 2)
_TWO_YEARS = 730
_SIZES = tuple(n * 10**9 for n in (256, 512, 1000, 2000, 4000, 8000, 16000, 32000))
_ROOM = 0.05
"""What a remedy should leave to spare, as a share of the volume."""
_WORTH_IT = 0.01
"""A cleaning that gains less than this share of the volume is no remedy."""


@dataclass(frozen=True)
class OtherVolume:
    mount: str
    capacity: int
    free: int


@dataclass(frozen=True)
class Prospect:
    """What the advice stands on. Bytes, bytes a day, days."""

    mount: str
    capacity: float
    threshold_percent: int
    floor: float
    """Used straight after a cleaning, as of now."""
    own: float
    """What grows and no cleaning takes."""
    own_error: float
    regrows: float | None = None
    """What cleanings take; None where it is not cleaned regularly."""
    every: float | None = None
    can_go: int | None = None
    """What a cleaning would gain now, by the newest survey; None: not looked at."""
    others: Sequence[OtherVolume] = ()
    grows: str = ""
    """The category that most of the growth is of, by its name, where one is known."""

    @property
    def threshold(self) -> float:
        return self.capacity * self.threshold_percent / 100

    def peak(self, weeks: int) -> float:
        """The most used in the next three months, cleaned every so many weeks; on the safe side."""
        doubt = _SAFE * self.own_error * AHEAD_DAYS
        return self.grown(AHEAD_DAYS) + doubt + (self.regrows or 0.0) * 7 * weeks

    def lasts(self, every: float) -> float:
        """Days until it is over its threshold before a cleaning, cleaned every so many days."""
        left = self.threshold - self.floor - (self.regrows or 0.0) * every
        return left / self.own if self.own > 0 else (float("inf") if left > 0 else 0.0)

    def grown(self, days: float) -> float:
        return self.floor + max(0.0, self.own) * days


def advise(prospect: Prospect) -> Advice:
    if prospect.regrows is None or prospect.every is None:
        return _not_cleaned_yet(prospect)
    now_weeks = round(prospect.every / 7, 1)
    fits = [weeks for weeks in STEPS if prospect.peak(weeks) <= prospect.threshold]
    gives = show_size(int(prospect.regrows * prospect.every))
    if not fits:
        return _not_for_long(prospect, now_weeks)
    weeks = fits[-1]
    words = (
        f"{_fills(prospect)}; a cleaning gives {gives} back. Cleaned {_every(weeks)} it stays "
        f"below {prospect.threshold_percent} % for the next three months"
    )
    if weeks >= 1.5 * now_weeks:
        verdict = IntervalVerdict.TOO_OFTEN
        words += f": {_each(prospect.every)} is more than this machine needs."
    elif weeks < 0.75 * now_weeks:
        verdict = IntervalVerdict.TOO_SELDOM
        words += f": {_each(prospect.every)} is not enough."
    else:
        verdict = IntervalVerdict.RIGHT
        words += ", as it is."
    return Advice(
        weeks=weeks, now_weeks=now_weeks, verdict=verdict, helps=Help.CLEANING, text=words
    )


def _not_for_long(prospect: Prospect, now_weeks: float) -> Advice:
    """No interval keeps the threshold for three months: how far the shortest goes, and then."""
    assert prospect.regrows is not None and prospect.every is not None
    now, weekly = prospect.lasts(prospect.every), prospect.lasts(7)
    back = f"{show_size(int(prospect.regrows * prospect.every))} come back"
    if weekly >= 30 and weekly - now >= 21:
        return Advice(
            weeks=1,
            now_weeks=now_weeks,
            verdict=IntervalVerdict.TOO_SELDOM,
            helps=Help.CLEANING,
            text=f"{_each(prospect.every).capitalize()} is not enough: {back} from one cleaning "
            f"to the next. Weekly it lasts some {weekly:.0f} days; then {_remedy(prospect)[1]}.",
        )
    if weekly <= 0 < prospect.threshold - prospect.floor:
        helps, what = _remedy(prospect)
        return Advice(
            weeks=1,
            now_weeks=now_weeks,
            verdict=IntervalVerdict.TOO_SELDOM,
            helps=helps,
            text=f"{back} from one cleaning to the next, over "
            f"{prospect.threshold_percent} % even when cleaned weekly. Cleaning alone is not "
            f"enough: {what}.",
        )
    return _cannot_help(prospect, now_weeks)


def _not_cleaned_yet(prospect: Prospect) -> Advice:
    """No rhythm to judge: whether one is needed, and whether it would do."""

    def none_yet(weeks: int | None, helps: Help, words: str) -> Advice:
        verdict = IntervalVerdict.NONE_YET
        return Advice(weeks=weeks, now_weeks=None, verdict=verdict, helps=helps, text=words)

    over = prospect.peak(0) - prospect.threshold
    if over <= 0:
        return none_yet(
            None,
            Help.NOTHING_NEEDED,
            f"{_fills(prospect)}: it stays below {prospect.threshold_percent} % for the next "
            "three months without any cleaning.",
        )
    if prospect.grows:
        return _cannot_help(prospect, None)
    if prospect.can_go is None:
        return none_yet(
            None, Help.LOOK, f"{_fills(prospect)}; what a cleaning would free is not known yet."
        )
    if prospect.can_go < max(over, _WORTH_IT * prospect.capacity):
        return _cannot_help(prospect, None)
    weeks = [w for w in STEPS if 7 * w * max(prospect.own, 1.0) <= prospect.can_go]
    chosen = weeks[-1] if weeks else 1
    return none_yet(
        chosen,
        Help.CLEANING,
        f"{_fills(prospect)}; a cleaning would free {show_size(prospect.can_go)}. "
        f"Begin {_every(chosen)}.",
    )


def _cannot_help(prospect: Prospect, now_weeks: float | None) -> Advice:
    share = round(100 * prospect.floor / prospect.capacity)
    if prospect.floor > prospect.threshold:
        after = "straight after a cleaning" if now_weeks else "and a cleaning would free too little"
        words = f"{share} % is in use {after}"
    elif prospect.own > 0:
        words = f"What grows is the client's own data, by {_rate(prospect.own)}"
    else:
        words = f"{share} % is in use and hardly anything of it can go"
    if prospect.floor > prospect.threshold and prospect.own > 0:
        words += f", and {_rate(prospect.own)} of the client's own data comes on top"
    helps, what = _remedy(prospect)
    if prospect.grows:
        helps = Help.RULE
        words = f"What grows is “{prospect.grows}”, by {_rate(prospect.own)}"
        what = f"a rule that keeps less of it would; or else {what}"
    return Advice(
        weeks=None,
        now_weeks=now_weeks,
        verdict=IntervalVerdict.CANNOT_HELP,
        helps=helps,
        text=f"{words}. Cleaning as it is cannot help: {what}."
        if prospect.grows
        else f"{words}. Cleaning cannot help: {what}.",
    )


def _remedy(prospect: Prospect) -> tuple[Help, str]:
    """The other volume, else a larger disk, or an archive where little is gathered."""
    year = max(0.0, prospect.own) * 365
    tooth = (prospect.regrows or 0.0) * (prospect.every or 0.0)
    over = prospect.floor + tooth - prospect.threshold
    wanted = max(over, 0.0) + year + _ROOM * prospect.capacity
    roomy = [
        volume
        for volume in prospect.others
        if volume.free - wanted > (100 - prospect.threshold_percent) / 100 * volume.capacity
    ]
    if roomy:
        best = max(roomy, key=lambda volume: volume.free)
        return Help.OTHER_VOLUME, (
            f"move {show_size(int(wanted))} to {best.mount}, which has {show_size(best.free)} free"
        )
    if year < 0.05 * prospect.capacity:
        return Help.ARCHIVE, (
            f"put what is no longer used, some {show_size(int(wanted))}, into an archive"
        )
    need = (prospect.grown(_TWO_YEARS) + tooth) * 100 / prospect.threshold_percent
    size = next((size for size in _SIZES if size >= need), None)
    if size is None:
        return Help.ARCHIVE, "no usual disk holds two years of it; an archive has to"
    text = f"{size // 10**12} TB" if size >= 10**12 else f"{size // 10**9} GB"
    return Help.LARGER_DISK, f"a disk of {text} would do for two years"


def _fills(prospect: Prospect) -> str:
    rate = prospect.own + (prospect.regrows or 0.0)
    if rate * 365 < 0.005 * prospect.capacity:
        return f"{prospect.mount} hardly fills"
    return f"{prospect.mount} fills by {_rate(rate)}"


def _rate(rate: float) -> str:
    """Bytes a day, or a month where a day's are few."""
    if rate < 100 * 2**20:
        return f"{show_size(int(rate * 30))} a month"
    return f"{show_size(int(rate))} a day"


def _every(weeks: int) -> str:
    return "every week" if weeks == 1 else f"every {weeks} weeks"


def _each(days: float) -> str:
    if days < 2:
        return "daily"
    if days < 10:
        return "weekly"
    weeks = days / 7
    return f"every {weeks:.0f} weeks" if weeks < 12.5 else f"every {days / 30.4:.0f} months"

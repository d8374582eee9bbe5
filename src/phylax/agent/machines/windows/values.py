"""Settings of one value that Windows keeps in the registry: where each lies, and what it says.

Those of a person lie in their own part, which is loaded only while they are signed in. Some count
when they sign in the next time. What has no place that is documented or well observed is not here.
"""

from __future__ import annotations

import errno
import re
import sys
from collections.abc import Iterator, Mapping, Sequence, Set
from dataclasses import dataclass

from phylax.agent.machines.windows import keys, registry
from phylax.agent.machines.windows.startup import marks
from phylax.core.ground.values import Scalar
from phylax.core.tuning.pieces import NOTHING, Folder, Nothing, Piece, State, StoredText
from phylax.core.tuning.verdicts import Seen

assert sys.platform == "win32"

_SZ, _DWORD = 1, 4
_CONSENT = r"Software\Microsoft\Windows\CurrentVersion\CapabilityAccessManager\ConsentStore"
_UPDATES = r"Software\Policies\Microsoft\Windows\WindowsUpdate\AU"
_DAYS: dict[Scalar, int | str | None] = {
    "monday-noon": 2, "tuesday-noon": 3, "wednesday-noon": 4, "thursday-noon": 5,
    "friday-noon": 6,
}  # fmt: skip
"""Days of the week as the policy counts them, from Sunday on."""


@dataclass(frozen=True)
class _Part:
    """One value of the registry."""

    key: str
    name: str
    kind: int
    by_choice: Mapping[Scalar, int | str | None]
    """What it says for each value of the setting; None: it is not there."""
    of_person: bool = True


_TABLE: dict[str, tuple[_Part, ...]] = {
    "motion": (
        _Part(r"Control Panel\Desktop\WindowMetrics", "MinAnimate", _SZ, {True: "1", False: "0"}),
    ),
    "play": (
        _Part(r"System\GameConfigStore", "GameDVR_Enabled", _DWORD, {True: 1, False: 0}),
        _Part(
            r"Software\Microsoft\Windows\CurrentVersion\GameDVR", "AppCaptureEnabled", _DWORD,
            {True: 1, False: 0},
        ),
    ),
    "interruptions": (
        _Part(
            r"Software\Microsoft\Windows\CurrentVersion\PushNotifications", "ToastEnabled",
            _DWORD, {True: 1, False: 0},
        ),
    ),
    "sees": (_Part(rf"{_CONSENT}\webcam", "Value", _SZ, {True: "Allow", False: "Deny"}),),
    "hears": (_Part(rf"{_CONSENT}\microphone", "Value", _SZ, {True: "Allow", False: "Deny"}),),
    "locates": (_Part(rf"{_CONSENT}\location", "Value", _SZ, {True: "Allow", False: "Deny"}),),
    "updates": (
        _Part(
            _UPDATES, "AUOptions", _DWORD,
            {"by-itself": None, **dict.fromkeys(_DAYS, 4)}, of_person=False,
        ),
        _Part(
            _UPDATES, "ScheduledInstallDay", _DWORD, {"by-itself": None, **_DAYS}, of_person=False
        ),
        _Part(
            _UPDATES, "ScheduledInstallTime", _DWORD,
            {"by-itself": None, **dict.fromkeys(_DAYS, 12)}, of_person=False,
        ),
    ),
}  # fmt: skip
_UNSET: dict[str, Scalar] = {
    "motion": True, "play": True, "interruptions": True, "sees": True, "hears": True,
    "locates": True, "updates": "by-itself",
}  # fmt: skip
"""What the system does where nothing is set."""
_KEYS = {part.key for parts in _TABLE.values() for part in parts}
_MARKED = {rf"{marks.MARKS}\{kind}" for kind in ("Run", "Run32", "StartupFolder")}


def _matching(names: Set[str]) -> re.Pattern[str]:
    either = "|".join(map(re.escape, sorted(names)))
    return re.compile(rf"(?:HKLM |HKU S-1-[0-9-]+\\)(?:{either})")


def _all_above(names: Set[str]) -> Set[str]:
    parts = (name.split("\\") for name in names)
    return {"\\".join(path[:number]) for path in parts for number in range(1, len(path))}


OURS = _matching(_KEYS | _MARKED)
"""The keys in which anything is set."""
ABOVE = _matching(_all_above(_KEYS | _MARKED))
"""The keys in which those lie."""


def values(people: Sequence[registry.Person]) -> Iterator[Seen]:
    """Every setting of the table: the machine's, and of everybody who is signed in."""
    for setting, parts in _TABLE.items():
        if not parts[0].of_person:
            yield _seen(setting, parts, "", "")
    for person in people:
        is_loaded = bool(keys.keys_below("HKU", person.sid))
        for setting, parts in _TABLE.items():
            if parts[0].of_person and is_loaded:
                yield _seen(setting, parts, person.name, f"{person.sid}\\")
            elif parts[0].of_person:
                why = "is known only while they are signed in"
                yield Seen(key=setting, person=person.name, unread=why)


def _seen(setting: str, parts: Sequence[_Part], of: str, before: str) -> Seen:
    states = [keys.read(_place(part, before)) for part in parts]
    if all(state == NOTHING for state in states):
        return Seen(key=setting, person=of, value=_UNSET[setting])
    for choice in parts[0].by_choice:
        if all(state == _state(part, choice) for part, state in zip(parts, states, strict=True)):
            return Seen(key=setting, person=of, value=choice)
    if setting == "updates":
        return Seen(key=setting, person=of, unread="set by an administrator's own policy")
    # of several, some may say nothing, which is what the system does by itself
    said = [
        _UNSET[setting] if isinstance(state, Nothing) else _said(part, state)
        for part, state in zip(parts, states, strict=True)
    ]
    if None not in said and len(set(said)) == 1:
        return Seen(key=setting, person=of, value=said[0])
    return Seen(key=setting, person=of, unread="is set to something that is not known here")


def _said(part: _Part, state: State) -> Scalar | None:
    return next((choice for choice in part.by_choice if _state(part, choice) == state), None)


def pieces(
    setting: str, of: str, value: Scalar, people: Sequence[registry.Person]
) -> tuple[Piece, ...]:
    """What a setting alters to become a value. OSError where it is none of the table."""
    parts = _TABLE.get(setting)
    person = next((person for person in people if of and person.name == of), None)
    if parts is None or parts[0].of_person != (person is not None):
        raise OSError(errno.ENOTSUP, "is not set on this machine", setting)
    before = f"{person.sid}\\" if person else ""
    made: dict[tuple[str, str, str], Piece] = {}
    for part in parts:
        place, after = _place(part, before), _state(part, value)
        if after != NOTHING:
            for key in _missing(place.above):
                piece = Piece(path=key.path, of=of, port=keys.PORT, before=NOTHING, after=Folder())
                made.setdefault(piece.place, piece)
        piece = Piece(path=place.path, of=of, port=keys.PORT, before=keys.read(place), after=after)
        if piece.before != piece.after:
            made[piece.place] = piece
    return tuple(made.values())


def _missing(key: keys.Place) -> list[keys.Place]:
    """Keys that are to be made first, the outermost first."""
    missing: list[keys.Place] = []
    while key.key and keys.read(key) == NOTHING:
        missing.insert(0, key)
        key = key.above
    return missing


def _place(part: _Part, before: str) -> keys.Place:
    return keys.Place("HKU" if part.of_person else "HKLM", f"{before}{part.key}", part.name)


def _state(part: _Part, choice: Scalar) -> State:
    said = part.by_choice[choice]
    return NOTHING if said is None else StoredText(text=keys.packed(said, part.kind))

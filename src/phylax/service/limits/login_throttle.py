"""Tries to sign in, counted before anything is checked: so that many at once are still few.

Who guesses has to wait longer with each try, and nobody else with them: tries are counted for an
address, for a login at an address, and for a login from all addresses that it never signed in
from. A browser that somebody signed in with before is counted by itself.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from typing import Final

_FREE: Final[dict[str, int]] = {"login here": 4, "known": 8, "address": 30, "login": 60}
"""Tries in a row before one has to wait."""
_LONGEST: Final[dict[str, int]] = {"login here": 300, "known": 60, "address": 60, "login": 20}
"""Seconds."""
_FORGOTTEN = 3600
_MOST_KEPT = 20_000

Key = tuple[str, str, str]
"""What is counted, of whom, from where."""


@dataclass
class _Count:
    tries: int
    last_at: int


class TooManyTriesError(Exception):
    """`seconds` have to pass first."""

    def __init__(self, seconds: int) -> None:
        super().__init__(f"try again in {seconds} seconds")
        self.seconds = seconds


class LoginThrottle:
    """Safe to share between threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._counts: OrderedDict[Key, _Count] = OrderedDict()

    def begin(self, login: str, address: str, *, known: bytes | None, now: int) -> None:
        """Count a try. TooManyTriesError where one has to wait; that try does not count."""
        keys = _keys(login, address, known)
        with self._lock:
            wait = max(self._wait(key, now) for key in keys)
            if wait > 0:
                raise TooManyTriesError(wait)
            for key in keys:
                count = self._counts.setdefault(key, _Count(0, now))
                count.tries += 1
                count.last_at = now
                self._counts.move_to_end(key)
            while len(self._counts) > _MOST_KEPT:
                self._counts.popitem(last=False)

    def succeeded(self, login: str, address: str, *, known: bytes | None) -> None:
        """It was the right one: it counts nowhere, and what this person mistyped is forgotten."""
        with self._lock:
            for key in _keys(login, address, known):
                if key[0] in ("login here", "known"):
                    self._counts.pop(key, None)
                elif count := self._counts.get(key):
                    count.tries = max(0, count.tries - 1)

    def _wait(self, key: Key, now: int) -> int:
        count = self._counts.get(key)
        if count is None:
            return 0
        if not 0 <= now - count.last_at <= _FORGOTTEN:
            # a clock that was set back must keep nobody out
            del self._counts[key]
            return 0
        over = count.tries - _FREE[key[0]]
        if over < 0:
            return 0
        wait: int = 2 ** min(over, 20)
        return count.last_at + min(_LONGEST[key[0]], wait) - now


def _keys(login: str, address: str, known: bytes | None) -> list[Key]:
    if known is not None:
        return [("known", login, known.hex())]
    return [("login here", login, address), ("login", login, ""), ("address", "", address)]


class Failures:
    """Which failed tries are written down: the first of each kind, then one in ten minutes with
    how many there were; in all no more than a few a minute."""

    _EVERY = 600
    _MOST = 60

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._since: dict[tuple[str, str], tuple[int, int]] = {}
        self._begun = 0

    def note(self, login: str, address: str, *, now: int) -> int | None:
        """How many of this kind were not written down before this one; None: nor is this one."""
        with self._lock:
            if not 0 <= now - self._begun < self._EVERY:
                # what is still to be summed stays for one more time, and nothing for ever
                self._since = {
                    key: (at, more)
                    for key, (at, more) in self._since.items()
                    if more and 0 <= now - at < 2 * self._EVERY
                }
                self._begun = now
            key = (login, address)
            if key not in self._since and len(self._since) >= self._MOST:
                # beyond that, all others count as one kind
                key = ("", "")
            at, more = self._since.get(key, (None, 0))
            if at is not None and 0 <= now - at < self._EVERY:
                self._since[key] = (at, more + 1)
                return None
            self._since[key] = (now, 0)
            return more

"""Telling how far long work is: never back, and with the time left as earlier runs teach it."""

from __future__ import annotations

import time
from collections.abc import Sequence

from phylax.agent.outbox.progress import Listener
from phylax.core.checks.time_left import Ran, expected, left
from phylax.core.protocol import Progress, Step

_TELL_EVERY = 0.4


class LongWork:
    """One piece of work; called as a `Watch`. Raises what the listener raises."""

    def __init__(
        self, listener: Listener, step: Step, what: str, earlier: Sequence[Ran] = ()
    ) -> None:
        """`what` is the key of the check or action."""
        self._listener = listener
        self._step: Step = step
        self._what = what
        self._earlier = earlier
        self._began = time.monotonic()
        self._told = 0.0
        self._done, self._of = 0, 0
        self._counting_since: float | None = None

    def __call__(self, done: int = 0, of: int | None = None) -> None:
        """So many of so many are done; without them it merely goes on."""
        self._listener.check()
        now = time.monotonic()
        if of is not None:
            self._note(done, of, now)
        if now - self._told < _TELL_EVERY:
            return
        self._told = now
        self._listener.tell(
            Progress(
                step=self._step,
                category=self._what,
                items=self._done,
                total_items=self._of or None,
                seconds_left=self._left(now),
            )
        )

    def _note(self, done: int, of: int, now: float) -> None:
        done = min(done, of)
        # what turns out to be more work than was thought is told as less done, never as going back
        if not self._of or (of and done * self._of >= self._done * of):
            self._done, self._of = done, of
        if self._counting_since is None:
            self._counting_since = now

    def _left(self, now: float) -> int | None:
        if not self._of or self._counting_since is None:
            whole = expected(self._earlier)
            return None if whole is None else max(0, round(whole - (now - self._began)))
        seconds = left(self._done, self._of, now - self._counting_since, self._earlier)
        return None if seconds is None else max(0, round(seconds))

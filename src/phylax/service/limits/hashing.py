"""Passwords are kept as Argon2id. Hashing is slow and takes much memory, on purpose: it is done by
two threads of its own, and who comes when many wait already is sent away."""

from __future__ import annotations

import asyncio
import secrets
import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache
from typing import TypeVar

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from phylax.service.problems import Problem

T = TypeVar("T")
_AT_ONCE = 2
_MOST_WAITING = 8
_MOST_WAITING_KNOWN = 16
"""Where strangers are sent away, a browser that is known still has a place."""

hasher = PasswordHasher()


def hash_password(password: str) -> str:
    return hasher.hash(password)


@cache
def _nobodys_password() -> str:
    """Checked for unknown logins, so that the time does not tell who exists."""
    return hasher.hash(secrets.token_hex())


def is_password(hashed: str | None, password: str) -> bool:
    """Whether a password is the one; None: of nobody, after as long a time."""
    try:
        hasher.verify(_nobodys_password() if hashed is None else hashed, password)
    except (VerificationError, InvalidHashError):
        return False
    return hashed is not None


class Hashing:
    """Where the work is done."""

    def __init__(self) -> None:
        self._threads = ThreadPoolExecutor(_AT_ONCE, "hashing")
        self._lock = threading.Lock()
        self._waiting = 0

    async def run(self, work: Callable[[], T], *, known: bool = False) -> T:
        """Do it when it is its turn; a problem where too many wait."""
        return await asyncio.wrap_future(self._submit(work, known))

    def run_here(self, work: Callable[[], T]) -> T:
        """The same for whoever is signed in, on a thread that may wait."""
        return self._submit(work, True).result()

    def close(self) -> None:
        self._threads.shutdown(wait=False, cancel_futures=True)

    def _submit(self, work: Callable[[], T], known: bool) -> Future[T]:
        with self._lock:
            if self._waiting >= (_MOST_WAITING_KNOWN if known else _MOST_WAITING):
                raise Problem(
                    503, "busy", "Too many sign in at once; try again in a moment.",
                    headers={"Retry-After": "2"},
                )  # fmt: skip
            self._waiting += 1
        future = self._threads.submit(work)
        future.add_done_callback(self._ended)
        return future

    def _ended(self, future: Future[T]) -> None:
        with self._lock:
            self._waiting -= 1

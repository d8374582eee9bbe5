"""Challenges for devices to sign: each counts once, within its time."""

from __future__ import annotations

import hmac
import secrets
import struct
import threading

LASTS = 300
"""Seconds for which somebody may look for their finger or their key."""
_MOST_USED = 10_000


class Challenges:
    """What is asked of a device; each counts once, within its time. Nothing is kept until then, so
    that nobody fills anything by asking. Safe to share between threads."""

    def __init__(self) -> None:
        self._key = secrets.token_bytes(32)
        self._used: dict[bytes, int] = {}
        self._lock = threading.Lock()

    def new(self, purpose: str, *, now: int) -> bytes:
        body = secrets.token_bytes(16) + struct.pack(">q", now + LASTS)
        return body + self._sign(purpose, body)

    def use(self, purpose: str, challenge: bytes, *, now: int) -> bool:
        """Whether it was asked for this, is in time, and was not used before."""
        body, signature = challenge[:24], challenge[24:]
        if len(body) != 24 or not hmac.compare_digest(signature, self._sign(purpose, body)):
            return False
        (until,) = struct.unpack(">q", body[16:])
        if now > until:
            return False
        with self._lock:
            if challenge in self._used or len(self._used) >= _MOST_USED:
                self._used = {c: at for c, at in self._used.items() if at >= now}
            if challenge in self._used or len(self._used) >= _MOST_USED:
                return False
            self._used[challenge] = until
        return True

    def _sign(self, purpose: str, body: bytes) -> bytes:
        return hmac.digest(self._key, purpose.encode() + b"\0" + body, "sha256")

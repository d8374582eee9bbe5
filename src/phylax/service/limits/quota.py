"""How much each machine's agent may send: plenty for what came together while it was out of reach,
and not so much that others wait."""

from __future__ import annotations

import threading
import time

MOST_BYTES = 96 * 2**20
MOST_MESSAGES = 6000
SECONDS = 600.0


class Quota:
    """Safe to share between threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._used: dict[int, tuple[float, float, float]] = {}
        """By machine: share of the bytes used, share of the messages, and when that was so."""

    def take(self, machine_id: int, size: int) -> int:
        """Seconds until a message of so many bytes may come; 0: now, and it counts."""
        with self._lock:
            now = time.monotonic()
            in_bytes, in_messages, at = self._used.get(machine_id, (0.0, 0.0, now))
            back = (now - at) / SECONDS
            in_bytes = max(0.0, in_bytes - back) + size / MOST_BYTES
            in_messages = max(0.0, in_messages - back) + 1 / MOST_MESSAGES
            over = max(in_bytes, in_messages) - 1
            if over > 0:
                return int(over * SECONDS) + 1
            self._used[machine_id] = (in_bytes, in_messages, now)
            return 0

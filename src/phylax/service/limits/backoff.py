"""Giving way to others in the middle of long work."""

from __future__ import annotations

import time


def give_way() -> None:
    """Let whoever waits have the processor now. Without it they wait five milliseconds each time
    they come back from the disk, and a short request comes back many times."""
    time.sleep(0)

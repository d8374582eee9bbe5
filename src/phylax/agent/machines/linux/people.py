"""People of a Linux machine, each with the rights that their own part of the work needs."""

from __future__ import annotations

from phylax.core.ground.values import Value


class Person(Value):
    """Whose rights a worker has, and where they live."""

    name: str
    uid: int
    gid: int
    home: str

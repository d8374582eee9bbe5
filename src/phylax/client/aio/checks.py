# Written by tools/aio.py from client/families/checks.py; change that one.
# ruff: noqa
"""Checks of machines."""

from __future__ import annotations
from collections.abc import Sequence
from phylax.client.aio.family import Family, Which
from phylax.core.checks.kept import SettleFindings, StoredCheck
from phylax.core.checks.kind import CheckKind


class Checks(Family):
    """What checks of machines came to; `runs.check` asks for one.

    Example::

        for kept in shop.checks.of("ferry-desk"):
            print(kept.checked.check, kept.checked.result)
    """

    async def kinds(self) -> Sequence[CheckKind]:
        """Everything that can be checked, as data."""
        return await self._http.get(list[CheckKind], "/checks")

    async def of(self, machine: Which) -> Sequence[StoredCheck]:
        """The newest of each volume and disk."""
        return await self._http.get(list[StoredCheck], f"/machines/{machine}/checks")

    async def settle(self, number: int, comment: str) -> StoredCheck:
        """Say what was done about findings."""
        return await self._http.post(
            StoredCheck, f"/checks/{number}/settle", SettleFindings(comment=comment)
        )

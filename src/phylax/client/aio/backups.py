# Written by tools/aio.py from client/families/backups.py; change that one.
# ruff: noqa
"""Backups of the shop's file."""

from __future__ import annotations
from collections.abc import Sequence
from phylax.client.aio.family import Family
from phylax.core.backups.backups import Backup, BackupPlan, BackupPlanEdit, BackupState
from phylax.core.ground.values import edit_of


class Backups(Family):
    """Copies of the shop's file; for the owner.

    Example::

        backup = shop.backups.make()
    """

    async def list(self) -> Sequence[Backup]:
        """The newest first; for the owner."""
        return await self._http.get(list[Backup], "/backups")

    async def state(self) -> BackupState:
        """How the shop is backed up, and what somebody has to see to."""
        return await self._http.get(BackupState, "/backups/state")

    async def make(self) -> Backup:
        """One at once; `why` says where none could be made."""
        return await self._http.post(Backup, "/backups")

    async def plan(self) -> BackupPlan:
        """Where backups go, and how many are kept."""
        return await self._http.get(BackupPlan, "/backups/plan")

    async def set_plan(self, plan: BackupPlan, **changes: object) -> BackupPlan:
        """Where backups go, and how many are kept, changed from what was read."""
        edit = edit_of(BackupPlanEdit, plan, **changes)
        return await self._http.put(BackupPlan, "/backups/plan", edit, plan.version)

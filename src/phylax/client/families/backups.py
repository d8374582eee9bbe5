"""Backups of the shop's file."""

from __future__ import annotations

from collections.abc import Sequence

from phylax.client.families.family import Family
from phylax.core.backups.backups import Backup, BackupPlan, BackupPlanEdit, BackupState
from phylax.core.ground.values import edit_of


class Backups(Family):
    """Copies of the shop's file; for the owner.

    Example::

        backup = shop.backups.make()
    """

    def list(self) -> Sequence[Backup]:
        """The newest first; for the owner."""
        return self._http.get(list[Backup], "/backups")

    def state(self) -> BackupState:
        """How the shop is backed up, and what somebody has to see to."""
        return self._http.get(BackupState, "/backups/state")

    def make(self) -> Backup:
        """One at once; `why` says where none could be made."""
        return self._http.post(Backup, "/backups")

    def plan(self) -> BackupPlan:
        """Where backups go, and how many are kept."""
        return self._http.get(BackupPlan, "/backups/plan")

    def set_plan(self, plan: BackupPlan, **changes: object) -> BackupPlan:
        """Where backups go, and how many are kept, changed from what was read."""
        edit = edit_of(BackupPlanEdit, plan, **changes)
        return self._http.put(BackupPlan, "/backups/plan", edit, plan.version)

"""Everything as archives, into files."""

from __future__ import annotations

import os
from pathlib import Path

from phylax.client.families.family import Family
from phylax.core.erasing.data_retention import DataRetention, DataRetentionEdit
from phylax.core.ground.values import edit_of


class Archives(Family):
    """For the owner; that one was taken out is written down.

    Example::

        shop.archives.record(Path("record.zip"))
    """

    def shop(self, file: Path) -> int:
        """Everything, into a new file; its size in bytes. FileExistsError."""
        return self._take("/shop/archive", file)

    def record(self, file: Path) -> int:
        """The record with its chain."""
        return self._take("/records/archive", file)

    def client(self, client_id: int, file: Path) -> int:
        """Everything about one client."""
        return self._take(f"/clients/{client_id}/archive", file)

    def keeping(self) -> DataRetention:
        """How long names are kept."""
        return self._http.get(DataRetention, "/keeping")

    def set_keeping(self, keeping: DataRetention, **changes: object) -> DataRetention:
        """Changed from what was read."""
        edit = edit_of(DataRetentionEdit, keeping, **changes)
        return self._http.put(DataRetention, "/keeping", edit, keeping.version)

    def _take(self, path: str, file: Path) -> int:
        part = file.with_name(f"{file.name}.part")
        if file.exists():
            raise FileExistsError(f"{file} is there already")
        part.unlink(missing_ok=True)
        try:
            with os.fdopen(os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as to:
                size = self._http.download(path, to, timeout=600.0)
                to.flush()
                os.fsync(to.fileno())
            part.rename(file)
        finally:
            part.unlink(missing_ok=True)
        return size

"""What a program without a package is recognised by: its very file, and how it is called."""

from __future__ import annotations

import hashlib
import os
import stat

LARGEST = 512 * 2**20
"""Bytes; a larger file is recognised by its package or not at all."""
MOST = 2 * 2**30
"""Bytes that one look reads for digests; what comes after them has none."""
_FLAGS = os.O_RDONLY | sum(
    getattr(os, name, 0) for name in ("O_NONBLOCK", "O_CLOEXEC", "O_BINARY", "O_NOINHERIT")
)


class Digests:
    """Digests below a root, of one look."""

    def __init__(self, root: str = "") -> None:
        """`root` is where the machine's folders begin, if not where this one's do."""
        self._root = root
        self._left = MOST

    def of(self, path: str, command: str) -> str:
        """SHA-256 of a program's file followed by how it is called, as the same interpreter does
        many things; read without renewing when it was last used, where that is allowed. Empty
        where it cannot be read."""
        if not os.path.isabs(path):
            return ""
        on_disk = os.path.join(self._root, path[1:]) if self._root else path
        for more in (getattr(os, "O_NOATIME", 0), 0):
            try:
                handle = os.open(on_disk, _FLAGS | more)
            except PermissionError:
                continue
            except OSError:
                return ""
            return self._of_open(handle, command)
        return ""

    def _of_open(self, handle: int, command: str) -> str:
        with open(handle, "rb") as file:
            st = os.fstat(handle)
            if not stat.S_ISREG(st.st_mode) or st.st_size > min(LARGEST, self._left):
                return ""
            self._left -= st.st_size
            digest = hashlib.file_digest(file, "sha256")
        digest.update(command.encode("utf-8", "surrogateescape"))
        return digest.hexdigest()

"""What a shortcut of a start-up folder leads to (MS-SHLLINK: header, identifiers, link info)."""

from __future__ import annotations

import struct

_HEADER = 0x4C
_HAS_IDENTIFIERS, _HAS_INFO = 0x1, 0x2
_LOCAL_BASE_PATH = 0x1
LARGEST = 256 * 1024


def target(content: bytes) -> str:
    """The local path that a shortcut leads to; empty where it says none, or is no shortcut."""
    try:
        size, flags = struct.unpack_from("<I16xI", content)
        if size != _HEADER or not flags & _HAS_INFO:
            return ""
        at = _HEADER
        if flags & _HAS_IDENTIFIERS:
            at += 2 + int(struct.unpack_from("<H", content, at)[0])
        info_size, info_header, info_flags, _, base = struct.unpack_from("<5I", content, at)
        if not info_flags & _LOCAL_BASE_PATH:
            return ""
        info = content[at : at + info_size]
        if info_header >= 0x24:
            wide = int(struct.unpack_from("<I", info, 0x1C)[0])
            return _wide(info, wide)
        return info[base : info.index(b"\0", base)].decode("cp1252", "replace")
    except (struct.error, ValueError):
        return ""


def _wide(info: bytes, at: int) -> str:
    end = at
    while info[end : end + 2] not in (b"\0\0", b""):
        end += 2
    return info[at:end].decode("utf-16-le", "replace")

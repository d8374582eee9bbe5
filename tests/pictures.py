"""Pictures that people upload: plain ones, and one that unfolds to far more than its file."""

from __future__ import annotations

import io
import zlib

from PIL import Image


def picture(kind: str, size: tuple[int, int] = (60, 40), **more: object) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, "teal").save(out, kind, **more)
    return out.getvalue()


def bomb() -> bytes:
    """A PNG that says it has 900 million pixels."""

    def chunk(name: bytes, data: bytes) -> bytes:
        crc = zlib.crc32(name + data).to_bytes(4, "big")
        return len(data).to_bytes(4, "big") + name + data + crc

    side = (30_000).to_bytes(4, "big")
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", side + side + b"\x01\x00\x00\x00\x00")
        + chunk(b"IDAT", zlib.compress(bytes(30_000 * 3751), 9)) + chunk(b"IEND", b"")
    )  # fmt: skip

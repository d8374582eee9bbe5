"""Pictures that people upload, drawn anew: what else lies in the file stays behind, among it where
and with which device it was taken."""

from __future__ import annotations

import io
import threading
from typing import Literal

from PIL import Image, ImageOps

MOST_PIXELS = 50_000_000
_one_at_a_time = threading.Lock()
"""A large picture unfolds to a few hundred MiB."""


def redrawn(
    content: bytes,
    *,
    widest: int,
    highest: int,
    formats: tuple[str, ...],
    into: Literal["PNG", "JPEG", "as it is"],
) -> tuple[Literal["png", "jpeg"], bytes]:
    """A picture no larger than so many pixels; ValueError where it is none, or would unfold to
    more than can be handled."""
    with _one_at_a_time:
        try:
            with Image.open(io.BytesIO(content), formats=list(formats)) as opened:
                # a small file may unfold to a huge picture
                if opened.width * opened.height > MOST_PIXELS:
                    raise ValueError(f"it has more than {MOST_PIXELS:,} pixels")
                kind = into if into != "as it is" else str(opened.format)
                # a JPEG is unfolded no larger than it is needed
                opened.draft(None, (widest, highest))
                opened.thumbnail((max(widest, highest),) * 2)
                picture = ImageOps.exif_transpose(opened)
                picture.thumbnail((widest, highest))
                picture = picture.convert("RGBA" if kind == "PNG" else "RGB")
        except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
            raise ValueError(str(error)) from None
        anew = Image.new(picture.mode, picture.size)
        anew.paste(picture)
        out = io.BytesIO()
        if kind == "PNG":
            anew.save(out, "PNG", optimize=True)
            return "png", out.getvalue()
        anew.save(out, "JPEG", quality=85)
        return "jpeg", out.getvalue()

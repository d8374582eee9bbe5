"""The shop's mark, as it is uploaded: a drawing (SVG) or a picture, and nothing else in it."""

from __future__ import annotations

import re
from xml.etree.ElementTree import Element, ParseError

import typst
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from phylax.core.reporting.request import MOST_MARK
from phylax.service.reporting.image_sanitizing import redrawn
from phylax.service.reporting.printing import compiled, mark_as_data

_WIDEST, _HIGHEST = 1200, 400
_ALLOWED = "Upload an SVG, PNG or JPEG of at most 512 KiB, without links and scripts."
_ALIVE = frozenset(
    {
        "script", "foreignobject", "a", "image", "use", "animate", "set", "iframe", "embed",
        "object", "animatemotion", "animatetransform", "handler", "listener", "feimage", "style",
    }
)  # fmt: skip
"""Elements of a drawing that run, fetch, lead somewhere, or repeat others without end."""
_URL = re.compile(r"url\s*\(\s*['\"]?\s*(?!#)", re.IGNORECASE)
_MOST_ELEMENTS = 5000


def checked(content: bytes) -> tuple[str, bytes]:
    """The mark's kind and content as it is kept; ValueError with what is allowed."""
    if not content or len(content) > MOST_MARK:
        raise ValueError(f"This is empty, or larger than 512 KiB. {_ALLOWED}")
    is_picture = content.startswith((b"\x89PNG\r\n", b"\xff\xd8\xff"))
    kind, kept = ("png", _picture(content)) if is_picture else ("svg", _drawing(content))
    try:
        compiled("mark.typ", {"mark": mark_as_data(kind, kept)})
    except typst.TypstError as error:
        raise ValueError(f"This cannot be printed: {error.message}. {_ALLOWED}") from None
    return kind, kept


def _picture(content: bytes) -> bytes:
    try:
        _, kept = redrawn(
            content, widest=_WIDEST, highest=_HIGHEST, formats=("PNG", "JPEG"), into="PNG"
        )
    except ValueError as error:
        raise ValueError(f"This picture cannot be read: {error}. {_ALLOWED}") from None
    return kept


def _drawing(content: bytes) -> bytes:
    try:
        root = fromstring(content, forbid_dtd=True)
        content.decode("utf-8")
    except (ParseError, DefusedXmlException, UnicodeDecodeError, ValueError, LookupError) as error:
        raise ValueError(f"This is neither a picture nor a drawing: {error}. {_ALLOWED}") from None
    if root.tag != "{http://www.w3.org/2000/svg}svg":
        raise ValueError(f"This is XML, but no SVG. {_ALLOWED}")
    for number, element in enumerate(root.iter()):
        if number >= _MOST_ELEMENTS:
            raise ValueError(f"A mark has at most {_MOST_ELEMENTS} elements.")
        _check(element)
    return content


def _check(element: Element) -> None:
    name = _name(element)
    if name in _ALIVE:
        raise ValueError(f"There is <{name}> in it. {_ALLOWED}")
    for attribute, value in element.attrib.items():
        bare = attribute.rpartition("}")[2].lower()
        leads_out = bare in ("href", "src") and not value.strip().startswith("#")
        if bare.startswith("on") or leads_out or _URL.search(value):
            raise ValueError(f"There is a link or a script in it: {bare}. {_ALLOWED}")


def _name(element: Element) -> str:
    # what is no element (a comment) has no name of text
    return element.tag.rpartition("}")[2].lower() if isinstance(element.tag, str) else ""

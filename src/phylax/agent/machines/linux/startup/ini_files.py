"""Files of `[Section]` and `Key=Value` lines: desktop entries, units, service files of the bus."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable

LARGEST = 128 * 1024
"""Bytes; a longer file is none of them."""

Sections = dict[str, dict[str, list[str]]]
"""Every value of each key in each section, in order."""


def read_text(path: str, largest: int = LARGEST) -> str | None:
    """The text of a plain file, links followed; None where there is none or it is odd.

    It never waits: a pipe is not opened, a large file not read.
    """
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY)
    except OSError:
        return None
    try:
        st = os.fstat(handle)
        if not stat.S_ISREG(st.st_mode) or st.st_size > largest:
            return None
        return os.read(handle, largest).decode("utf-8", "replace")
    except OSError:
        return None
    finally:
        os.close(handle)


def is_text(name: str) -> bool:
    """Whether a name on the disk is text that can be said."""
    try:
        name.encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def parse(text: str) -> Sections:
    """What the file says. A line that ends in a backslash goes on; an empty value starts anew."""
    return merged([text])


def merged(texts: Iterable[str]) -> Sections:
    """What files say one after the other, as a unit and its drop-ins do."""
    sections: Sections = {}
    for text in texts:
        section: dict[str, list[str]] = {}
        for line in _lines(text):
            if line.startswith("[") and line.endswith("]"):
                section = sections.setdefault(line[1:-1], {})
            elif "=" in line:
                key, value = (part.strip() for part in line.split("=", 1))
                if value:
                    section.setdefault(key, []).append(value)
                else:
                    section[key] = []
    return sections


def _lines(text: str) -> Iterable[str]:
    begun = ""
    for raw in text.splitlines():
        line = raw.strip()
        if line.startswith(("#", ";")) or (not line and not begun):
            continue
        if line.endswith("\\"):
            begun += line[:-1] + " "
            continue
        yield (begun + line).strip()
        begun = ""
    if begun:
        yield begun.strip()


def last(sections: Sections, section: str, key: str) -> str:
    """The value that counts of a key that has one; empty where there is none."""
    values = sections.get(section, {}).get(key, [])
    return values[-1] if values else ""


def words(sections: Sections, section: str, key: str) -> list[str]:
    """All words of a key that lists names."""
    return [word for value in sections.get(section, {}).get(key, []) for word in value.split()]


def is_true(value: str) -> bool:
    return value.lower() in ("1", "yes", "true", "on")

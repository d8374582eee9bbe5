"""The words by which a client is named in texts of others, and texts without them.

Only what names somebody by itself is looked for: a first name alone, or a number of three digits,
stands in other texts for others.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator

from phylax.core.clients.facts import is_placeholder

_SHORTEST = 4
_FEWEST_DIGITS = 6


class Words:
    """What names a client."""

    def __init__(self, words: Iterable[str]) -> None:
        self.all = tuple(sorted({" ".join(w.split()) for w in words if w.strip()}, key=len))[::-1]
        forms = {form for word in self.all for form in _forms(word)}
        self._any = (
            re.compile("|".join(map(_bounded, sorted(forms, key=len, reverse=True))), re.IGNORECASE)
            if forms
            else None
        )

    @property
    def roughly(self) -> tuple[str, ...]:
        """By these a text is found that may hold one of them; in lower case, without what is not
        ASCII at either end."""
        return tuple(dict.fromkeys(rough for word in self.all for rough in _rough(word)))

    def are_in(self, text: str) -> bool:
        return self._any is not None and self._any.search(text) is not None

    def taken_out(self, text: str, put: str) -> str:
        """The text with something else in their place."""
        return text if self._any is None else self._any.sub(put, text)


def name_somebody(
    *,
    names: Iterable[str] = (),
    persons: Iterable[str] = (),
    tags: Iterable[str] = (),
    mails: Iterable[str] = (),
    phones: Iterable[str] = (),
    serials: Iterable[str] = (),
) -> Iterator[str]:
    """Those of some words that name somebody or something by themselves."""
    yield from (word for word in (*names, *tags, *mails) if len(word.strip()) >= _SHORTEST)
    yield from (person for person in persons if len(person.split()) > 1)
    for phone in phones:
        if len(re.sub(r"\D", "", phone)) >= _FEWEST_DIGITS:
            yield phone
    for serial in serials:
        if len(serial) >= _SHORTEST + 1 and not is_placeholder(serial):
            yield serial


def _forms(word: str) -> set[str]:
    """As it is written, and as JSON writes it."""
    return {word, json.dumps(word)[1:-1], json.dumps(word, ensure_ascii=False)[1:-1]}


def _bounded(word: str) -> str:
    """The word by itself: a tag is not the beginning of another."""
    spaced = r"\s+".join(re.escape(part) for part in word.split(" "))
    before = r"(?<![\w-])" if re.match(r"\w", word) else ""
    after = r"(?![\w-])" if re.search(r"\w\Z", word) else ""
    return f"{before}{spaced}{after}"


def _rough(word: str) -> Iterator[str]:
    for part in sorted(re.findall(r"[\x21-\x7e]+", word), key=len, reverse=True)[:1]:
        yield part.lower()

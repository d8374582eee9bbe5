"""What a mistyped name most likely was."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from itertools import islice

_NEAR = 0.68
_LONGEST = 64
_SHORT = 3
_MOST_COMPARED = 5000
"""So that a wrong name costs no more than a right one, also in a large shop."""


def nearest(word: str, known: Iterable[str], *, most: int = 2) -> list[str]:
    """Known words that are close to a word, the closest first; also those that begin with it."""
    if len(word) > _LONGEST:
        return []
    by_folded = {name.casefold(): name for name in islice(known, _MOST_COMPARED)}
    folded = word.casefold().strip()
    near = difflib.get_close_matches(folded, by_folded, most, _NEAR)
    longer = [name for name in by_folded if len(folded) > 1 and folded in name and name not in near]
    near += sorted(longer, key=len)
    if not near:
        # one word of a name was said, and not quite
        by_word = {part: name for name in by_folded for part in name.split() if len(part) > _SHORT}
        near = [by_word[part] for part in difflib.get_close_matches(folded, by_word, most, _NEAR)]
    return [by_folded[name] for name in dict.fromkeys(near)][:most]


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """``; did you mean 'tag' or 'tags'?`` behind what was not found, else a full stop."""
    near = nearest(word, known)
    return f"; did you mean {' or '.join(repr(name) for name in near)}?" if near else "."

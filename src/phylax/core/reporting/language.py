"""How a report speaks: its sentences, numbers, sizes and days in one language."""

from __future__ import annotations

import tomllib
from datetime import date
from functools import cache
from importlib import resources
from typing import Any, Literal

from phylax.core.catalogue import catalogue
from phylax.core.ground.quantities import show_size
from phylax.core.retention.rules import Reason

Language = Literal["en", "de"]


class Words:
    """The texts of one language."""

    def __init__(self, language: Language) -> None:
        text = resources.files("phylax.core.reporting.words").joinpath(f"{language}.toml")
        self.language = language
        self._texts: dict[str, dict[str, Any]] = tomllib.loads(text.read_text("utf-8"))
        self._decimal: str = self._texts["name"]["decimal"]
        self._thousands: str = self._texts["name"]["thousands"]

    def say(self, sentence: str, **values: object) -> str:
        """A sentence with its values; what stands in these is never read as a sentence."""
        return str(self._texts["text"][sentence]).format(**values)

    def number(self, number: int) -> str:
        return f"{number:,}".replace(",", self._thousands)

    def count(self, number: int, noun: str) -> str:
        """A number with its noun: ``1 file``, ``2,400 files``."""
        forms = self._texts["noun"][noun]
        return str(forms[number != 1]).format(n=self.number(number))

    def size(self, size: int) -> str:
        return show_size(size).replace(".", self._decimal)

    def seconds(self, seconds: float) -> str:
        return f"{seconds:.0f}" if seconds >= 10 else f"{seconds:.1f}".replace(".", self._decimal)

    def day(self, day: date) -> str:
        months = self._texts["name"]["months"]
        return str(self._texts["name"]["day"]).format(
            day=day.day, month=months[day.month - 1], year=day.year
        )

    def category(self, key: str) -> tuple[str, str]:
        """What a category is called, and what it is."""
        if own := self._texts.get("category", {}).get(key):
            return own[0], own[1]
        category = catalogue().get(key)
        return (category.name, category.description) if category else (key, "")

    def reason(self, reason: Reason) -> str:
        return str(self._texts["reason"][reason.value])

    def value(self, value: str) -> str:
        """What a setting was or is: when a program starts in this language, else as it was told."""
        return str(self._texts["intent"].get(value, value))

    def check(self, name: str) -> str:
        return str(self._texts.get("work", {}).get(name, name))

    def advice(self, kind: str, text: str) -> str:
        """Advice that the figures speak for; what a person wrote stays as it is written."""
        return str(self._texts.get("advice", {}).get(kind, text))


@cache
def words(language: Language) -> Words:
    return Words(language)

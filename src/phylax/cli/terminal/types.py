"""What arguments are: days, times, spans and files, each named by a word in the usage line."""

from __future__ import annotations

import shutil
import sys
import tempfile
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

import click

_Param = click.Parameter | None
_Ctx = click.Context | None


class _Day(click.ParamType):  # type: ignore[type-arg]  # generic only in newer click
    """A day of the calendar, as its first moment."""

    name = "day"

    def convert(self, value: Any, param: _Param, ctx: _Ctx) -> datetime:
        if isinstance(value, datetime):
            return value
        try:
            return datetime.combine(date.fromisoformat(value), time())
        except ValueError:
            self.fail(f"{value!r} is not a day; write it as in 2027-06-30", param, ctx)


class _DayOrMoment(click.ParamType):  # type: ignore[type-arg]
    """A day, or a day with a time of day, by the shop's clock."""

    name = "moment"

    def convert(self, value: Any, param: _Param, ctx: _Ctx) -> datetime:
        if isinstance(value, datetime):
            return value
        try:
            moment = datetime.fromisoformat(value)
        except ValueError:
            moment = None
        if moment is None or moment.tzinfo is not None:
            said = "is not a moment; write it as in '2027-06-30 18:30' or 2027-06-30"
            self.fail(f"{value!r} {said}", param, ctx)
        return moment


class _TimeOfDay(click.ParamType):  # type: ignore[type-arg]
    name = "time"

    def convert(self, value: Any, param: _Param, ctx: _Ctx) -> time:
        try:
            return value if isinstance(value, time) else time.fromisoformat(value)
        except ValueError:
            self.fail(f"{value!r} is not a time of day; write it as in 18:30", param, ctx)


class _FileToRead(click.Path):
    """A file that is there, or ``-`` for what comes on standard input."""

    def __init__(self) -> None:
        super().__init__(exists=True, dir_okay=False, path_type=Path)

    def convert(self, value: Any, param: _Param, ctx: _Ctx) -> Any:
        if value != "-":
            return super().convert(value, param, ctx)
        folder = Path(tempfile.mkdtemp(prefix="phylax-"))
        if ctx is not None:
            ctx.find_root().call_on_close(lambda: shutil.rmtree(folder, ignore_errors=True))
        file = folder / "standard-input"
        with file.open("wb") as copy:
            shutil.copyfileobj(sys.stdin.buffer, copy)
        return file


DAY, MOMENT, TIME_OF_DAY, FILE = _Day(), _DayOrMoment(), _TimeOfDay(), _FileToRead()
"""`FILE`: everywhere a file is read, ``-`` reads standard input."""

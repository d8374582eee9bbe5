"""What others named is printed as a name, and nothing else."""

from __future__ import annotations

import csv
import logging

import pytest
from pydantic import BaseModel

from phylax.cli.terminal.forms import TABLE, Form, Shown
from phylax.cli.terminal.output import Column, console, print_list
from phylax.service.telemetry import logs


class Named(BaseModel):
    name: str


COLUMNS = (Column("name", lambda named: named.name), Column("below", lambda n: n.name, below=True))


def test_nothing_in_a_name_reaches_the_terminal(capsys: pytest.CaptureFixture[str]) -> None:
    bad = "a\x1b[2Jb\x9b31mc\x07"
    for columns in (COLUMNS[:1], COLUMNS):
        print_list(TABLE, [Named(name=bad)], columns, empty="")
    console.print(bad)
    said = capsys.readouterr().out
    assert "a?[2Jb?31" in said
    assert all(sign == "\n" or sign.isprintable() for sign in said)


def test_a_spreadsheet_takes_no_name_for_a_formula(capsys: pytest.CaptureFixture[str]) -> None:
    names = ["=1+1", "+1", "@x", "-cmd", "\tx", "-5.0 GiB", "-", "", "plain"]
    form = Form("csv", Shown(Named))
    print_list(form, [Named(name=name) for name in names], COLUMNS[:1], empty="")
    printed = capsys.readouterr().out
    cells = [row[0] for row in list(csv.reader(printed.splitlines()))[1:] if row]
    assert cells[:5] == ["'=1+1", "'+1", "'@x", "'-cmd", "'\tx"]
    assert "-5.0 GiB" in cells and "-" in cells and "plain" in cells


def test_a_name_stays_in_its_line_of_the_log() -> None:
    record = logging.LogRecord("x", logging.INFO, "f", 1, "on %s", ("a\nFAKE \x1b[2J",), None)
    line = logs._OneLine("%(message)s").format(record)
    assert line == "on a\\nFAKE \\x1b[2J"


def test_the_same_warning_is_written_once_a_minute() -> None:
    often = logs._NotTooOften()
    record = logging.LogRecord("x", logging.WARNING, "f", 1, "Invalid HTTP request.", (), None)
    assert [often.filter(record) for _ in range(3)] == [True, False, False]

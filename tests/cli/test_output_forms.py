"""How commands print: chosen columns, an order, narrow terminals, pipes, standard input."""

from __future__ import annotations

import csv
import io
import json
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from helpers import Run, enrol, make_file, make_standin
from phylax.cli.session import following as _following
from phylax.cli.terminal.output import sort_key
from phylax.cli.terminal.tables import Layout
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine


@pytest.fixture
def clients(owner: Phylax) -> list[str]:
    named = ["Skerry Ferry Office", "Marram Lighthouse Museum", "=Bram Oakes, at home"]
    for number, name in enumerate(named):
        owner.clients.add(ClientEdit(name=name, contact="x" * 30, mail=f"m{number}@oakes.example"))
    return named


def test_columns_are_chosen_by_heading_or_field_in_every_form(
    phylax: Run, clients: list[str]
) -> None:
    table = phylax("client", "list", "--columns", "name,threshold_percent").stdout.splitlines()
    assert table[0].split() == ["name", "threshold_percent"] and clients[0] in table[1]
    rows = list(csv.reader(io.StringIO(
        phylax("client", "list", "--columns", "mail,name", "--format", "csv").stdout
    )))  # fmt: skip
    assert rows[0] == ["mail", "name"] and rows[1] == ["m0@oakes.example", clients[0]]
    assert rows[3][1] == f"'{clients[2]}", "no formula for a spreadsheet"
    listed = json.loads(phylax("client", "list", "--columns", "name", "--format", "json").stdout)
    assert listed == [{"name": name} for name in clients]
    lines = phylax("client", "list", "--format", "jsonl").stdout.splitlines()
    assert [json.loads(line)["name"] for line in lines] == clients


@pytest.mark.parametrize("form", ["table", "csv", "json"])
def test_lists_are_put_in_order_by_a_column(phylax: Run, clients: list[str], form: str) -> None:
    up = phylax("client", "list", "--sort", "name", "--format", form).stdout
    down = phylax("client", "list", "--sort", "name", "--reverse", "--format", form).stdout
    order = sorted(clients)
    assert [up.index(name) for name in order] == sorted(up.index(name) for name in clients)
    assert [down.index(name) for name in order[::-1]] == sorted(down.index(n) for n in clients)


def test_amounts_are_ordered_by_what_they_amount_to() -> None:
    shown = ["–", "10.0 GiB", "9.9 GiB", "980.0 MiB", "3 days", "20 hours", "12", "9", "boat", ""]
    assert sorted(shown, key=sort_key) == [
        "9", "12", "20 hours", "3 days", "980.0 MiB", "9.9 GiB", "10.0 GiB", "boat", "–", "",
    ]  # fmt: skip


def test_at_eighty_columns_no_line_is_longer_and_no_cell_is_one_word_wide(
    phylax: Run, clients: list[str]
) -> None:
    lines = phylax("client", "list", COLUMNS="80").stdout.splitlines()
    assert max(map(len, lines)) <= 80
    assert any(clients[1] in line for line in lines), "names stay whole"
    assert f"    contact: {'x' * 30}" in [line.rstrip() for line in lines]


def test_long_cells_go_below_and_short_ones_stay() -> None:
    row = ["7", "ferry-desk", "done", "why " * 30, "what " * 30]
    layout = Layout(
        ["run", "machine", "state", "why", "what"], [row],
        right=[True, False, False, False, False], below=[False] * 5, room=80,
    )  # fmt: skip
    assert (layout.beside, layout.labelled) == ([0, 1, 2], [3, 4])


def test_a_pipe_gets_a_line_for_each_row(phylax: Run, clients: list[str]) -> None:
    piped = phylax("client", "list").stdout.splitlines()
    assert len(piped) == 1 + len(clients)
    wide = phylax("client", "list", "--wide", COLUMNS="40").stdout.splitlines()
    assert len(wide) == 1 + len(clients)
    assert all(line == line.rstrip() for line in piped)


def test_files_are_read_from_standard_input_too(phylax: Run, machine: Machine) -> None:
    rules = b'[shop.trash]\nkeep_for = "20 days"\n'
    assert "20 days" in phylax("rule", "load", "-", "--yes", stdin=rules).stdout
    steps = b'name = "Ours"\n[[steps]]\nkind = "survey"\n'
    assert "Ours" in phylax("routine", "add", "-", stdin=steps).stdout
    machines = b"client,tag,system\nHoy Bakery,hoy-till,linux\n"
    taken_in = phylax("client", "import", "-", "--yes", stdin=machines)
    assert taken_in.returncode == 0 and "Hoy Bakery" in phylax("client", "list").stdout
    seal = phylax("record", "seal", "kept.seal")
    assert seal.returncode == 0
    kept = Path("kept.seal")
    verified = phylax("record", "verify", "--seal", "-", stdin=kept.read_bytes())
    kept.unlink()
    assert "all of them are there" in verified.stdout


@pytest.fixture
def waiting(owner: Phylax, machine: Machine, tmp_path: Path) -> Iterator[int]:
    """A run whose machine is there and does not call."""
    make_file(make_standin(tmp_path / "m") / ".tmp/old", days_old=3)
    yield owner.runs.survey(machine.tag).id


def test_whoever_stops_following_hears_that_the_run_goes_on(
    phylax: Run, owner: Phylax, waiting: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    def stop(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(_following, "_follow_in_lines", stop)
    ended = phylax("run", "follow", str(waiting))
    assert ended.returncode == 130
    assert f"Run {waiting} on ferry-desk goes on." in ended.stderr
    assert f"phylax run call-off {waiting}" in ended.stderr
    assert owner.runs.get(waiting).state == "waiting"


def test_progress_goes_to_standard_error_in_lines(
    phylax: Run, owner: Phylax, waiting: int, tmp_path: Path
) -> None:
    agent = enrol(owner, "ferry-desk", tmp_path / "agent", tmp_path / "m")
    thread = threading.Thread(target=agent.once)
    thread.start()
    ended = phylax("run", "follow", str(waiting))
    thread.join()
    assert ended.returncode == 0
    assert ended.stderr.splitlines()[-1] == "ferry-desk: done"
    assert ended.stdout.splitlines() == ["Run 1 on ferry-desk: done"]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("machine", "withdraw", "ferry-desk"), "its agent can no longer call"),
        (("routine", "run", "Light weekly", "ferry-desk"), "Light weekly on ferry-desk:"),
    ],
)
def test_what_cannot_be_taken_back_is_said_and_asked(
    phylax: Run, owner: Phylax, machine: Machine, words: tuple[str, ...], said: str
) -> None:
    unsaid = phylax(*words)
    assert unsaid.returncode == 2 and said in unsaid.stdout and "say --yes" in unsaid.stderr
    assert not list(owner.runs.list())
    no = phylax(*words, stdin=b"n\n")
    assert no.returncode == 2 and not list(owner.runs.list())
    assert phylax(*words, stdin=b"y\n").returncode == 0


def test_a_shop_says_the_next_command_with_its_folder(phylax: Run, tmp_path: Path) -> None:
    data = tmp_path / "new shop"
    words = ("shop", "open", "--data", str(data), "--name", "X", "--zone", "Europe/Dublin",
             "--owner", "Ann", "--login", "ann", "--password", "correct horse battery")  # fmt: skip
    assert f"phylax serve --data '{data}'" in phylax(*words).stdout
    wrong = phylax("serve", "--data", str(tmp_path / "elsewhere"))
    assert wrong.returncode == 1 and "There is no shop in" in wrong.stderr
    assert not (tmp_path / "elsewhere").exists()


def test_of_a_category_without_a_yes_no_listing_is_promised(phylax: Run, machine: Machine) -> None:
    refused = phylax("survey", "list", "ferry-desk", "user-temp")
    assert refused.returncode == 2 and "goes without a yes" in refused.stderr

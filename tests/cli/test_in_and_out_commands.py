"""Lists taken in, everything taken out, a shop built anew, a client forgotten: by commands."""

from __future__ import annotations

import json
from pathlib import Path

from helpers import Run
from phylax.client import Phylax
from phylax.core.clients.shop import Machine

LIST = """Kunde,Rechner,Betriebssystem,Ort,RAM
Möwenhof,moewe-1,Windows 10,Keller,8
Möwenhof,moewe-1,Windows 10,Keller,8
,lost-1,Linux,,
"""


def test_a_list_is_previewed_and_taken_in(phylax: Run, owner: Phylax, tmp_path: Path) -> None:
    file = tmp_path / "list.csv"
    file.write_bytes(LIST.encode("windows-1252"))
    unsure = phylax("client", "import", str(file), "--yes")
    assert unsure.returncode == 1 and "say the encoding windows-1252" in unsure.stderr
    assert "Möwenhof" in unsure.stdout
    known = ("client", "import", str(file), "--encoding", "windows-1252")
    asked = phylax(*known)
    assert asked.returncode != 0 and list(owner.clients.list()) == [], "nobody said yes"
    wrong = phylax(*known, "--column", "Ort=cellar")
    assert wrong.returncode == 2 and "Headings: kunde" in wrong.stderr
    taken = phylax(*known, "--column", "Ort=note", "--column", "5=", "--yes", "--format", "json")
    assert taken.returncode == 0, taken.stderr
    assert '"added": 1' in taken.stdout
    made = owner.machines.get("moewe-1")
    assert (made.note, made.memory, made.client_name) == ("Keller", None, "Möwenhof")
    again = phylax(*known, "--column", "Ort=note", "--column", "5=", "--all")
    assert "There is nothing to take in" in again.stdout and "names no client" in again.stdout
    assert "1 same, 1 double, 1 refused" in again.stdout
    assert phylax("client", "import", str(tmp_path / "none.csv")).returncode == 2


def test_everything_is_taken_out_and_a_shop_built_anew(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    for words in (
        ("shop", "archive"), ("record", "archive"), ("client", "archive", machine.client_name),
    ):  # fmt: skip
        file = tmp_path / f"{words[0]}.zip"
        made = phylax(*words, str(file))
        assert made.returncode == 0 and f"in {file}" in made.stdout.replace("\n", ""), made
        over = phylax(*words, str(file))
        assert over.returncode == 1 and "is there already" in over.stderr
    data = tmp_path / "anew"
    loaded = phylax("shop", "load", str(tmp_path / "shop.zip"), "--data", str(data))
    assert loaded.returncode == 0 and "each fits the one before it" in loaded.stdout, loaded
    assert "phylax person let-in LOGIN" in loaded.stdout
    let_in = phylax("person", "let-in", "ines", "--data", str(data))
    assert let_in.returncode == 0
    twice = phylax("shop", "load", str(tmp_path / "shop.zip"), "--data", str(data))
    assert twice.returncode == 1 and "a shop in" in twice.stderr
    wrong = phylax("shop", "load", str(tmp_path / "client.zip"), "--data", str(tmp_path / "other"))
    assert wrong.returncode == 1 and "not of a whole shop" in wrong.stderr


def test_a_client_is_forgotten_and_spans_are_set(
    phylax: Run, owner: Phylax, machine: Machine
) -> None:
    name = machine.client_name
    care = phylax("client", "forget", name, "--yes")
    assert care.returncode == 4 and "Retire Skerry Ferry Office first" in care.stdout
    assert phylax("client", "retire", name, "--yes").returncode == 0
    postponed = ("client", "forget", name, "--postpone", "2026-06-01", "--yes")
    silent = phylax(*postponed)
    assert silent.returncode != 0 and "say why" in silent.stderr
    later = phylax(*postponed, "--why", "a claim")
    assert later.returncode == 0 and "by itself" in later.stdout
    (listed,) = json.loads(phylax("client", "list-forgotten", "--format", "json").stdout)
    assert listed["state"] == "postponed" and listed["why"] == "a claim"
    assert phylax("client", "forget", name, "--call-off").returncode == 0
    done = phylax("client", "forget", name, "--word", "Skerry", "--yes")
    assert done.returncode == 0 and "has no name any more" in done.stdout, done
    assert "words were erased" in phylax("record", "verify").stdout
    spans = phylax("shop", "set-keeping", "--staff", "36", "--notices", "12")
    assert "36 months after they left" in spans.stdout and "12 months" in spans.stdout
    assert "they stay" not in spans.stdout
    assert "left: they stay" in phylax("shop", "set-keeping", "--staff", "0").stdout

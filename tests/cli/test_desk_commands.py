"""Clients and machines on the command line: shown, changed, retired, brought back, proved."""

from __future__ import annotations

from datetime import date
from pathlib import Path

from helpers import TUESDAY, Run
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.scheduling.rounds import RoundEdit


def test_a_client_is_changed_and_shown(phylax: Run, machine: Machine) -> None:
    added = phylax(
        "client", "add", "Kelpie Boatyard", "--contact-by", "phone", "--hours", "mornings"
    )
    assert added.returncode == 0
    changed = phylax("client", "change", "Kelpie Boatyard", "--phone", "555 0154")
    assert changed.returncode == 0 and "555 0154" in changed.stdout
    shown = phylax("client", "show", "Kelpie Boatyard").stdout
    assert "mornings" in shown and "best reached by" in shown and "note" not in shown
    nothing = phylax("client", "change", "Kelpie Boatyard")
    assert nothing.returncode == 2 and "Name what changes" in nothing.stderr
    assert phylax("client", "change", "Kelpie Boatyard", "--contact-by", "owl").returncode == 2


def test_a_machine_is_changed_and_what_is_not_named_stays(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    phylax("client", "add", "Kelpie Boatyard")
    words = ("machine", "change", "ferry-desk")
    assert phylax(*words, "--serial", "CO 12", "--year", "2022").returncode == 0
    changed = phylax(*words, "--client", "kelpie boatyard", "--used-by", "Rory", "--memory", "8GiB")
    assert changed.returncode == 0 and "Kelpie Boatyard" in changed.stdout
    now = owner.machines.get("ferry-desk")
    assert (now.serial, now.year, now.used_by, now.memory) == ("CO 12", 2022, "Rory", 8 * 2**30)
    assert phylax(*words, "--year", "1066").returncode == 2
    assert "Name what changes" in phylax(*words).stderr
    picture = tmp_path / "label.svg"
    made = phylax("machine", "make-label", "ferry-desk", str(picture))
    assert f"{owner.url}/machines/ferry-desk" in " ".join(made.stdout.split())
    assert picture.read_text("utf-8").startswith("<svg")


def test_machines_and_clients_retire_and_return(
    phylax: Run, owner: Phylax, machine: Machine
) -> None:
    plan = TUESDAY.model_dump() | {"machine_ids": (machine.id,), "starts_on": date(2026, 3, 2)}
    owner.rounds.add(RoundEdit.model_validate(plan))
    asked = phylax("machine", "retire", "ferry-desk")
    assert asked.returncode != 0 and "no machine stays in it" in " ".join(asked.stdout.split())
    assert owner.machines.get("ferry-desk").retired_at is None, "nobody said yes"
    done = phylax("machine", "retire", "ferry-desk", "--why", "Sold", "--yes")
    assert done.returncode == 0 and "phylax machine return ferry-desk" in done.stdout
    assert "ferry-desk" not in phylax("machine", "list").stdout
    assert "ferry-desk" in phylax("machine", "list", "--retired").stdout
    assert "Sold" in phylax("machine", "show", "ferry-desk").stdout
    refused = phylax("survey", "start", "ferry-desk")
    assert refused.returncode == 4 and "retired" in refused.stderr
    back = " ".join(phylax("machine", "return", "ferry-desk").stdout.split())
    assert "is back" in back and "runs there again" in back and "one-time code" in back
    whole = " ".join(phylax("client", "retire", "Skerry Ferry Office", "--yes").stdout.split())
    assert "With it: ferry-desk." in whole
    assert "Skerry" in phylax("client", "list", "--retired").stdout
    assert "with 1 machine" in phylax("client", "return", "Skerry Ferry Office").stdout


def test_an_entry_is_proved_and_the_proof_checked(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    entry = owner.records.add_note(machine.id, "Kept 12 files.")
    file = tmp_path / "proof"
    assert phylax("record", "prove", str(entry.id), str(file)).returncode == 0
    said = phylax("record", "verify", "--proof", str(file))
    assert said.returncode == 0 and "Kept 12 files." in said.stdout
    file.write_text(file.read_text("utf-8").replace("index 1", "index 0"), "utf-8")
    assert phylax("record", "verify", "--proof", str(file)).returncode == 4
    assert phylax("record", "prove", "99").returncode == 4


def test_words_with_fields_find_entries(phylax: Run, owner: Phylax, machine: Machine) -> None:
    owner.records.add_note(machine.id, "A new fan.")
    assert "A new fan." in phylax("record", "list", "machine:ferry-desk fan").stdout
    refused = phylax("record", "list", "kind:joke")
    assert refused.returncode == 4 and "there are run, note" in " ".join(refused.stderr.split())

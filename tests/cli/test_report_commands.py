"""`phylax report`: what a client gets to read, by the command line."""

from __future__ import annotations

from pathlib import Path

from helpers import Run
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


def test_a_report_is_read_made_and_written_to_a_file(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    assert "No report was made yet" in phylax("report", "list").stdout
    assert phylax("report", "make").returncode == 2
    assert (
        phylax("visit", "open", "ferry-desk", "--problem", "It howls \x07\x9b31mred").returncode
        == 0
    )
    shown = phylax("report", "preview", "--visit", "1", "--cover", "It was the fan.")
    assert shown.returncode == 0
    for line in ("What we did for ferry-desk", "It was the fan.", "WHAT YOU TOLD US", "“It howls"):
        assert line in shown.stdout
    assert "\x07" not in phylax("report", "preview", "--visit", "1").stdout
    brief = phylax("report", "preview", "--visit", "1", "--leave-out", "what the client said")
    assert "howls" not in brief.stdout
    made = phylax("report", "make", "--visit", "1", "-o", str(tmp_path / "a.pdf"))
    assert made.returncode == 0
    assert (tmp_path / "a.pdf").read_bytes().startswith(b"%PDF-")
    assert "ferry-desk" in phylax("report", "list").stdout
    assert phylax("report", "save", "1", "-o", str(tmp_path / "b.pdf")).returncode == 0
    assert (tmp_path / "a.pdf").read_bytes() == (tmp_path / "b.pdf").read_bytes()
    phylax("report", "save", "1", "--proofs", "-o", str(tmp_path / "proofs.txt"))
    assert "tlog-proof" in (tmp_path / "proofs.txt").read_text()
    assert "sealed:" in phylax("report", "show", "1").stdout
    refused = phylax("report", "mail", "1", "--to", "a@b.example", "--yes")
    assert refused.returncode == 4 and "No mail server" in refused.stderr
    assert phylax("report", "show", "9").returncode == 4


def test_the_letterhead(phylax: Run, tmp_path: Path) -> None:
    mark = tmp_path / "mark.svg"
    mark.write_text('<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><g/></svg>')
    set_ = phylax("report", "set-letterhead", "--head", "Quayside\\n1 Harbour Road",
                  "--language", "de", "--mark", str(mark))  # fmt: skip
    assert set_.returncode == 0 and "svg" in set_.stdout and "\\n" not in set_.stdout
    assert "none" in phylax("report", "set-letterhead", "--no-mark").stdout
    mark.write_text('<svg xmlns="http://www.w3.org/2000/svg"><script/></svg>')
    refused = phylax("report", "set-letterhead", "--mark", str(mark))
    assert refused.returncode == 4 and "without links and scripts" in refused.stderr


def test_an_attachment_and_what_a_run_stands_on(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    bill = tmp_path / "bill.pdf"
    bill.write_bytes(b"%PDF-1.7 a bill")
    noted = phylax("record", "note", "ferry-desk", "The bill.", "--attach", str(bill), "--call")
    assert noted.returncode == 0
    entry = next(owner.records.list())
    assert entry.kind == "call" and entry.attached[0].name == "bill.pdf"
    bill.write_bytes(b"no bill")
    refused = phylax("record", "note", "ferry-desk", "The bill.", "--attach", str(bill))
    assert refused.returncode == 4 and "cannot be read" in refused.stderr
    run = owner.runs.survey(machine.tag)
    assert "stands on nothing" in phylax("run", "show-evidence", str(run.id)).stdout
    assert phylax("search", "bill").stdout.count("The bill.") == 1
    assert '"kind":"entry"' in phylax("search", "bill", "--format", "jsonl").stdout

"""The house itself: every document, picture, command and lock file is what it says."""

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from phylax.cli.root import _NOUNS

ROOT = Path(__file__).parents[1]
DOCUMENTS = [*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")]


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda d: d.name)
def test_every_link_of_a_document_leads_somewhere(document: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", document.read_text(encoding="utf-8")):
        assert (document.parent / target).exists(), target


def test_every_picture_is_shown_in_the_readme_and_there_are_under_twenty() -> None:
    pictures = {p.name for p in (ROOT / "docs/screenshots").glob("*.png")}
    shown = set(re.findall(r"screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))
    assert shown == pictures and len(pictures) < 20


def test_lock_files_name_versions_and_no_addresses() -> None:
    pinned = (ROOT / "constraints.txt").read_text().splitlines()
    assert all(re.fullmatch(r"[\w.-]+==[\w.]+", line) for line in pinned)
    lock = json.loads((ROOT / "console/package-lock.json").read_text())
    assert not [name for name, package in lock["packages"].items() if "resolved" in package]


@pytest.mark.parametrize("noun", [n for n in _NOUNS if n not in ("serve", "demo", "today")])
def test_every_command_explains_itself(noun: str) -> None:
    from click.testing import CliRunner

    from phylax.cli.root import _phylax

    run = CliRunner().invoke(_phylax, [noun, "--help"])
    assert run.exit_code == 0, run.output
    assert "Usage: " in run.output
    verbs = re.findall(r"^  ([a-z-]+)  ", run.output.partition("Commands:")[2], re.MULTILINE)
    for verb in verbs:
        helped = CliRunner().invoke(_phylax, [noun, verb, "--help"])
        assert helped.exit_code == 0 and len(helped.output.splitlines()) > 3, verb


def test_the_bench_measures_what_it_says(tmp_path: Path) -> None:
    code = (
        "from bench import survey_full as b, what_if_shop as w\n"
        "b.FILES, b.IN_A_FOLDER, b.PAIRS = 1000, 1, 1\n"
        "w.SIZES, w.ASKED = (20, 40), 1\n"
        "b.main(); w.main()"
    )
    ran = subprocess.run([sys.executable, "-c", code], cwd=ROOT, capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    for word in ("find", "survey", "with start-up", "memory", "ratio", "40 machines"):
        assert word in ran.stdout

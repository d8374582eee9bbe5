"""The command line as people and scripts use it."""

import csv
import io
import json
import os
import subprocess
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from conftest import Service
from helpers import PASSWORD, Clock, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.shop import Machine

Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def phylax(owner: Phylax, tmp_path: Path) -> Run:
    token = tmp_path / "owner.token"
    token.write_text(owner.people.make_token("script").token)

    def run(*words: str, url: str | None = None, **env: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "phylax", *words],
            capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL,
            env=os.environ | {
                "PHYLAX_URL": url or owner.url, "PHYLAX_TOKEN_FILE": str(token), "COLUMNS": "160",
                "XDG_CONFIG_HOME": str(tmp_path / "config"),
            } | env,
        )  # fmt: skip

    return run


def test_a_shop_is_run_from_the_command_line(
    phylax: Run, owner: Phylax, tmp_path: Path, clock: Clock
) -> None:
    clock.now = datetime.now(UTC)  # agents take their readings by the real clock
    assert phylax("client", "add", "Tidewrack Pottery").returncode == 0
    taken_in = phylax(
        "machine", "add", "pottery-pc", "--client", "tidewrack pottery", "--system", "linux",
        "--memory", "16 GiB",
    )  # fmt: skip
    assert "phylax machine code pottery-pc" in taken_in.stdout
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", 5000, days_old=3)
    make_file(home / ".tmp/open", 5000, days_old=3)
    make_file(home / "Downloads/film.mp4", 9000, days_old=400)
    agent = enrol(owner, "pottery-pc", tmp_path / "agent", tmp_path / "m")
    phylax("rule", "set", "downloads", "--keep-for", "1 year", "--machine", "pottery-pc")
    assert "keep for 365 days (from the machine)" in phylax("rule", "show", "pottery-pc").stdout
    phylax("survey", "start", "pottery-pc", "--no-wait")
    agent.once()
    ledger = phylax("survey", "show", "pottery-pc").stdout
    assert "9.8 KiB can go" in ledger and "8.8 KiB needs a yes" in ledger
    assert "film.mp4" in phylax("survey", "listing", "pottery-pc", "downloads").stdout

    asked = phylax("run", "clean", "pottery-pc", "user-temp", "--agree", "downloads:1")
    assert asked.returncode == 130 and "Download folders: the 1 item you chose" in asked.stdout
    state = tmp_path / "m/machine.toml"
    in_use = 'files_in_use = ["root/home/anna/.tmp/open"]'
    state.write_text(state.read_text().replace("files_in_use = []", in_use))
    phylax("run", "clean", "pottery-pc", "user-temp", "--agree", "downloads:1", "--yes",
           "--no-wait", "--word", "asked by phone")  # fmt: skip
    agent.once()
    followed = phylax("run", "follow", "2")
    assert followed.returncode == 5, "something was left: scripts see it"
    assert "removed   2 items, 13.7 KiB" in followed.stdout
    assert "in use" in followed.stdout

    made = phylax(
        "round", "add", "Pottery, monthly", "--machine", "pottery-pc", "--category", "user-temp",
        "--monthly-on", "1", "--at", "19:00",
    )  # fmt: skip
    assert "every month on the 1st at 19:00" in made.stdout and made.stdout.count("-01 19:00") == 5
    phylax("record", "note", "pottery-pc", "Client told.")
    assert "Client told." in phylax("record", "list", "told").stdout
    assert "each fits the one before it" in phylax("record", "verify").stdout
    assert "needs you" in phylax("today").stdout
    clock.now = datetime.now(UTC)
    assert "cleaned" in phylax("trend", "show", "pottery-pc", "--span", "2 days").stdout


def test_listings_for_programs(phylax: Run, machine: Machine) -> None:
    found = json.loads(phylax("machine", "list", "--format", "json").stdout)
    assert [m["tag"] for m in found] == [machine.tag]
    rows = list(csv.DictReader(io.StringIO(phylax("machine", "list", "--format", "csv").stdout)))
    assert rows[0]["tag"] == machine.tag
    assert json.loads(phylax("run", "list", "--format", "json").stdout) == []


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("machine", "show", "nowhere"), 4, "There is no machine 'nowhere'."),
        (("rule", "set", "trash", "--keep-for", "soon"), 2, "write '30 days'"),
        (("rule", "set", "trash"), 2, "Say something"),
        (("round", "add", "x", "--machine", "ferry-desk", "--category", "programs", "--weekly-on",
          "monday", "--at", "18:30"), 2, "cannot go unattended"),
        (("machine", "add", "Ferry Desk", "--client", "1", "--system", "linux"), 2, "tag"),
        (("serve", "--host", "0.0.0.0"), 2, "--behind-proxy"),
        (("catalogue", "show", "tea-leaves"), 2, "user-temp"),
        (("nonsense",), 2, "No such command"),
    ],
)  # fmt: skip
def test_mistakes_end_with_a_sentence_and_a_code(
    phylax: Run, machine: Machine, words: tuple[str, ...], code: int, said: str
) -> None:
    ended = phylax(*words)
    assert ended.returncode == code, ended
    assert said in ended.stderr and "Traceback" not in ended.stderr


def test_a_service_that_is_not_there(phylax: Run) -> None:
    ended = phylax("today", url="http://127.0.0.1:9")
    assert ended.returncode == 3 and "phylax serve" in ended.stderr


def test_signing_in_is_remembered_for_oneself_alone(
    phylax: Run, service: Service, tmp_path: Path
) -> None:
    refused = phylax("today", PHYLAX_TOKEN_FILE="")
    assert refused.returncode == 2 and "phylax sign-in" in refused.stderr
    phylax("sign-in", "--login", "wren", "--password", PASSWORD)
    assert phylax("today", PHYLAX_TOKEN_FILE="").returncode == 0
    kept = tmp_path / "config/phylax/signed-in.json"
    assert kept.stat().st_mode & 0o077 == 0 and PASSWORD not in kept.read_text()


def test_opening_a_shop_takes_a_real_password_and_happens_once(phylax: Run, tmp_path: Path) -> None:
    words = ["shop", "open", "--data", str(tmp_path / "new"), "--name", "N", "--zone",
             "Europe/Dublin", "--owner", "O", "--login", "o", "--password"]  # fmt: skip
    short = phylax(*words, "short")
    assert short.returncode == 2 and "at least 10" in short.stderr
    assert "is open" in phylax(*words, PASSWORD).stdout
    assert "already" in phylax(*words, PASSWORD).stderr


def test_starting_up_loads_neither_the_web_framework_nor_numpy() -> None:
    code = (
        "import sys\n"
        "sys.argv = ['phylax', 'catalogue', 'list']\n"
        "from phylax.cli import main\n"
        "try: main()\n"
        "except SystemExit: pass\n"
        "heavy = {'fastapi', 'uvicorn', 'starlette', 'numpy', 'httpx'} & set(sys.modules)\n"
        "sys.exit(f'loaded {heavy}' if heavy else 0)"
    )
    ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    assert "user-temp" in ended.stdout


def test_completion_for_shells(phylax: Run) -> None:
    assert "_PHYLAX_COMPLETE" in phylax("completion", "bash").stdout


def test_a_round_is_tried_before_it_is_made(phylax: Run, machine: Machine, owner: Phylax) -> None:
    words = ["round", "add", "Thorough", "--machine", machine.tag, "--category", "trash",
             "--rule", "FREQ=MONTHLY;BYDAY=-1FR", "--at", "19:00"]  # fmt: skip
    tried = phylax(*words, "--dry-run")
    assert "every month on the last Friday at 19:00" in tried.stdout
    assert list(owner.rounds.list()) == []
    assert phylax(*words).returncode == 0
    assert "Thorough" in phylax("round", "list").stdout
    assert phylax("round", "end", "1").returncode == 0
    assert "No rounds yet." in phylax("round", "list").stdout
    both = phylax(*words, "--monthly-on", "1")
    assert both.returncode == 2 and "one of --weekly-on" in both.stderr


def test_people_and_tokens_are_looked_after(phylax: Run, service: Service) -> None:
    added = phylax("shop", "add-person", "tobias", "--name", "Tobias Quill", "--role",
                   "technician", "--password", PASSWORD)  # fmt: skip
    assert "may sign in as tobias" in added.stdout
    assert service.as_("tobias").people.me().role == "technician"
    people = json.loads(phylax("shop", "people", "--format", "json").stdout)
    assert {p["login"] for p in people} == {"ines", "wren", "petra", "tobias"}
    assert "not sign in any more" in phylax("shop", "person", "tobias", "--inactive").stdout
    assert phylax("shop", "person", "nobody", "--active").returncode == 2
    words = ("shop", "change-password", "--present", PASSWORD, "--new", "another long password")
    assert "Changed." in phylax(*words).stdout
    secret = phylax("shop", "make-token", "till").stdout.strip()
    assert secret.startswith("phylax_") and secret not in phylax("shop", "tokens").stdout
    number = json.loads(phylax("shop", "tokens", "--format", "json").stdout)[-1]["id"]
    assert phylax("shop", "withdraw-token", str(number)).returncode == 0
    assert phylax("today", PHYLAX_TOKEN_FILE="", PHYLAX_TOKEN=secret).returncode == 4
    assert "withdraw token" in phylax("shop", "audit").stdout


def test_a_broken_chain_ends_with_a_code_of_its_own(
    phylax: Run, machine: Machine, service: Service
) -> None:
    assert phylax("record", "verify").returncode == 0
    with service.house.db.write() as conn:
        conn.execute("DROP TRIGGER records_are_not_changed")
        conn.execute("UPDATE records SET text = 'something else'")
    ended = phylax("record", "verify")
    assert ended.returncode == 4 and "Broken at entry 1" in ended.stdout


def test_a_run_is_called_off_from_the_command_line(phylax: Run, machine: Machine) -> None:
    assert "waits for ferry-desk" in phylax("survey", "start", machine.tag, "--no-wait").stdout
    assert "called off" in phylax("run", "call-off", "1").stdout
    followed = phylax("run", "follow", "1")
    assert followed.returncode == 6, "scripts see that it was not done"
    assert phylax("run", "call-off", "1").returncode == 4

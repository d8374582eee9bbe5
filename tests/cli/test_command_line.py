"""The command line as people and scripts use it."""

import csv
import io
import json
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest

from conftest import Service
from helpers import PASSWORD, Clock, Run, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


def test_a_shop_is_run_from_the_command_line(
    phylax: Run, owner: Phylax, tmp_path: Path, clock: Clock
) -> None:
    clock.now = datetime.now(UTC)  # agents take their readings by the real clock
    assert phylax("client", "add", "Tidewrack Pottery").returncode == 0
    taken_in = phylax(
        "machine", "add", "pottery-pc", "--client", "tidewrack pottery", "--system", "linux",
        "--memory", "16 GiB",
    )  # fmt: skip
    assert "phylax machine make-code pottery-pc" in taken_in.stdout
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", 5000, days_old=3)
    make_file(home / ".tmp/open", 5000, days_old=3)
    make_file(home / "Downloads/film.mp4", 9000, days_old=400)
    agent = enrol(owner, "pottery-pc", tmp_path / "agent", tmp_path / "m")
    phylax("rule", "set", "--yes", "downloads", "--keep-for", "1 year", "--machine", "pottery-pc")
    rules = json.loads(phylax("rule", "show", "pottery-pc", "--format", "json").stdout)
    (downloads,) = [rule for rule in rules if rule["category"] == "downloads"]
    assert downloads["in_words"] == "keep for 365 days"
    assert downloads["source"] == "machine"
    phylax("survey", "start", "pottery-pc", "--no-wait")
    agent.once()
    ledger = phylax("survey", "show", "pottery-pc").stdout
    assert "9.8 KiB can go" in ledger and "8.8 KiB needs approval" in ledger
    assert "film.mp4" in phylax("survey", "list", "pottery-pc", "downloads").stdout

    asked = phylax("run", "clean", "pottery-pc", "user-temp", "--agree", "downloads:1")
    assert asked.returncode == 2 and "Download folders: the 1 item you chose" in asked.stdout
    state = tmp_path / "m/machine.toml"
    in_use = 'files_in_use = ["root/home/anna/.tmp/open"]'
    state.write_text(state.read_text().replace("files_in_use = []", in_use))
    phylax("run", "clean", "pottery-pc", "user-temp", "--agree", "downloads:1", "--yes",
           "--no-wait", "--comment", "asked by phone")  # fmt: skip
    agent.once()
    followed = phylax("run", "follow", "2")
    assert followed.returncode == 5, "something was left: scripts see it"
    assert "removed   2 items, 13.7 KiB" in followed.stdout
    assert "in use" in followed.stdout

    made = phylax(
        "round", "add", "Pottery, monthly", "--machine", "pottery-pc", "--routine", "light weekly",
        "--often", "on the first of every month", "--at", "19:00",
    )  # fmt: skip
    assert "every month on the 1st at 19:00" in made.stdout and made.stdout.count("-01 19:00") == 5
    phylax("record", "note", "pottery-pc", "Client told [/at last] of [red]paint.")
    assert "Client told [/at last] of [red]paint." in phylax("record", "list", "told").stdout
    assert "each fits the one before it" in phylax("record", "verify").stdout
    assert "needs attention" in phylax("today").stdout
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
        (("rule", "set", "--yes", "trash", "--keep-for", "soon"), 2, "write '30 days'"),
        (("rule", "set", "trash"), 2, "Say something"),
        (("round", "add", "x", "--machine", "ferry-desk", "--routine", "none", "--often",
          "every Monday", "--at", "18:30"), 2, "there is no routine 'none'"),
        (("machine", "add", "Ferry Desk", "--client", "1", "--system", "linux"), 2, "tag"),
        (("serve", "--host", "0.0.0.0"), 2, "--behind-proxy"),
        (("catalogue", "show", "tea-leaves"), 2, "there are user-temp"),
        (("nonsense",), 2, "There is no 'nonsense' here."),
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
    words = ["round", "add", "Thorough", "--machine", machine.tag, "--routine", "2",
             "--often", "FREQ=MONTHLY;BYDAY=-1FR", "--at", "19:00"]  # fmt: skip
    tried = phylax(*words, "--dry-run")
    assert "every month on the last Friday at 19:00" in tried.stdout
    assert list(owner.rounds.list()) == []
    assert phylax(*words).returncode == 0
    assert "Thorough" in phylax("round", "list").stdout
    unsaid = phylax("round", "end", "1")
    assert unsaid.returncode == 2 and "recurs no more on 1 machine" in unsaid.stdout
    assert phylax("round", "end", "1", "--yes").returncode == 0
    assert "No rounds yet." in phylax("round", "list").stdout
    never = phylax(*words[:-3], "now and then", "--at", "19:00")
    assert never.returncode == 2 and "say it as in 'every Tuesday'" in never.stderr


def test_people_and_tokens_are_looked_after(phylax: Run) -> None:
    added = phylax("person", "add", "tobias", "--name", "Tobias Quill", "--role", "technician")
    assert "with the login tobias" in added.stdout
    people = json.loads(phylax("person", "list", "--format", "json").stdout)
    assert {p["login"] for p in people} == {"ines", "wren", "petra", "tobias"}
    assert "no longer sign in" in phylax("person", "set-activity", "tobias", "--inactive").stdout
    assert phylax("person", "set-activity", "nobody", "--active").returncode == 2
    words = ("person", "set-password", "--present", PASSWORD, "--new", "another long password")
    assert "Changed." in phylax(*words).stdout
    secret = phylax("token", "make", "till").stdout.strip()
    assert secret.startswith("phylax_") and secret not in phylax("token", "list").stdout
    number = json.loads(phylax("token", "list", "--format", "json").stdout)[-1]["id"]
    assert phylax("token", "withdraw", str(number)).returncode == 0
    assert phylax("today", PHYLAX_TOKEN_FILE="", PHYLAX_TOKEN=secret).returncode == 4
    assert "withdraw token" in phylax("shop", "list-audit").stdout


def test_a_broken_chain_ends_with_a_code_of_its_own(
    phylax: Run, machine: Machine, service: Service
) -> None:
    assert phylax("record", "verify").returncode == 0
    with service.context.db.write() as conn:
        conn.execute("DROP TRIGGER record_parts_are_not_changed")
        conn.execute("UPDATE record_parts SET text = 'something else'")
    ended = phylax("record", "verify")
    assert ended.returncode == 4 and "Broken at entry 1" in ended.stdout


def test_a_run_is_called_off_from_the_command_line(phylax: Run, machine: Machine) -> None:
    assert "waits for ferry-desk" in phylax("survey", "start", machine.tag, "--no-wait").stdout
    assert "called off" in phylax("run", "call-off", "1").stdout
    followed = phylax("run", "follow", "1")
    assert followed.returncode == 6, "scripts see that it was not done"
    assert phylax("run", "call-off", "1").returncode == 4


def test_a_rule_is_tried_set_shown_and_cleared(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path, clock: Clock
) -> None:
    clock.now = datetime.now(UTC)
    home = make_standin(tmp_path / "m")
    for days in (3, 9, 40):
        make_file(home / f".tmp/f{days}", 5000, days_old=days)
    owner.runs.survey(machine.tag)
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m").once()
    tried = phylax("rule", "preview", "user-temp", "--keep-for", "8 days").stdout
    assert (
        "9.8 KiB would be removed (2 items) on 1 machine; by the rules in force 14.6 KiB" in tried
    )
    asked = phylax("rule", "set", "user-temp", "--keep-for", "8 days")
    assert (asked.returncode, "say --yes" in asked.stderr) == (2, True)
    assert "user-temp for the shop would be: keep for 8 days." in asked.stdout
    assert "9.8 KiB would be removed (2 items) on 1 machine" in asked.stdout
    limited = json.loads(
        phylax(
            "rule", "preview", "user-temp", "--keep-for", "50 days", "--keep-under", "6 KB",
            "--format", "json",
        ).stdout
    )  # fmt: skip
    assert limited["removable_then"]["size"] > 0 and limited["exact"] is False
    set_ = phylax(
        "rule", "set", "--yes", "trash", "--machine", "ferry-desk", "--keep-newest", "3",
        "--keep-under", "5 %", "--only-larger", "1 MiB", "--when-below", "15 %", "7 days",
        "--hold-for", "2 days",
    )  # fmt: skip
    assert set_.stdout.strip() == (
        "trash for ferry-desk: keep for 30 days, keep the newest 3, keep under 5 % of the volume, "
        "only larger than 1.0 MiB, 7 days below 15 % free, held 2 days first."
    )
    phylax("rule", "set", "--yes", "trash", "--keep-for", "20 days")
    shown = " ".join(phylax("rule", "show", "ferry-desk").stdout.split())
    assert "the machine" in shown and "keep for from the shop" in shown
    assert "no rule" in phylax("rule", "clear", "trash", "--machine", "ferry-desk").stdout
    assert phylax("rule", "clear", "trash", "--machine", "ferry-desk").returncode == 4
    assert "pressure may only shorten" in phylax(
        "rule", "set", "--yes", "trash", "--when-below", "10 %", "25 days"
    ).stderr  # fmt: skip


def test_rules_are_saved_and_loaded_with_a_look_at_the_difference(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    phylax("rule", "set", "--yes", "journal", "--keep-under", "300 MiB")
    file = tmp_path / "rules.toml"
    assert "Written to" in phylax("rule", "save", str(file)).stdout
    assert 'keep_under = "300 MiB"' in phylax("rule", "save").stdout
    file.write_text(file.read_text().replace("300 MiB", "200 MiB"))
    dry = phylax("rule", "load", str(file), "--dry-run").stdout
    assert "keep under 300 MiB" in dry and "keep under 200 MiB" in dry
    assert phylax("rule", "load", str(file)).returncode == 2, "it asks first"
    assert "1 change made" in phylax("rule", "load", str(file), "--yes").stdout
    assert "says what is said already" in phylax("rule", "load", str(file), "--yes").stdout
    file.write_text('[shop.journal]\nkeep_under = "lots"')
    wrong = phylax("rule", "load", str(file), "--yes")
    assert (wrong.returncode, "'lots' is not a size" in wrong.stderr) == (4, True)


def test_what_always_stays_is_added_tested_and_taken_off(phylax: Run, machine: Machine) -> None:
    assert phylax("protect", "add").returncode == 2
    added = phylax("protect", "add", "--pattern", "*.dcm", "--note", "x-rays")
    assert "1: pattern *.dcm stays, for the shop." in added.stdout
    phylax("protect", "add", "--site", "a.example", "--machine", "ferry-desk")
    listed = phylax("protect", "list", "ferry-desk", "--format", "csv").stdout
    kept = [
        (row["entry.pattern"], row["subject"], row["note"])
        for row in csv.DictReader(io.StringIO(listed))
    ]
    assert kept == [("*.dcm", "", "x-rays"), ("a.example", "ferry-desk", "")]
    assert "not looked at since" in phylax("protect", "list").stdout
    assert "not looked at since it was added" in phylax("protect", "list-machines", "1").stdout
    yes = phylax("protect", "test", "ferry-desk", "/home/anna/a.dcm")
    assert (yes.returncode, "entry 1 for the shop (x-rays)" in yes.stdout) == (0, True)
    assert phylax("protect", "test", "ferry-desk", "--site", "www.a.example").returncode == 0
    no = phylax("protect", "test", "ferry-desk", "/home/anna/a.odt")
    assert (no.returncode, "Nothing on the list" in no.stdout) == (1, True)
    phylax("protect", "remove", "1")
    assert phylax("protect", "test", "ferry-desk", "/home/anna/a.dcm").returncode == 1
    wrong = phylax("protect", "add", "--pattern", "!a")
    assert (wrong.returncode, "only adds" in wrong.stderr) == (2, True)


def test_standing_consents_are_given_listed_and_taken_back(phylax: Run, machine: Machine) -> None:
    phylax("rule", "set", "--yes", "downloads", "--keep-for", "90 days", "--machine", "ferry-desk")
    given = phylax(
        "consent", "give-standing", "ferry-desk", "downloads", "--comment", "by contract"
    )
    assert "goes by its rule from now on: keep for 90 days" in given.stdout
    assert "by contract" in phylax("consent", "list-standing", "ferry-desk").stdout
    assert "No consent yet" in phylax("consent", "list", "ferry-desk").stdout
    assert "taken back" in phylax("consent", "take-back", "1").stdout
    assert phylax("consent", "take-back", "1").returncode == 4
    refused = phylax("consent", "give-standing", "ferry-desk", "trash")
    assert (refused.returncode, "needs no consent" in refused.stderr) == (4, True)


@pytest.mark.parametrize(
    ("category", "said"),
    [
        ("web-site-data", "Chromium must be closed"),
        ("old-logs", "administrator's"),
        ("large-and-idle", "listed only when larger than 256.0 MiB and unused for 180 days"),
        ("journal", "only *@*.journal, *.journal~"),
        ("system-temp", "not systemd-private-*"),
    ],
)
def test_the_catalogue_explains_a_category(phylax: Run, category: str, said: str) -> None:
    told = " ".join(phylax("catalogue", "show", category).stdout.split())
    assert said in told


def test_a_list_is_worked_through_by_size_and_folder(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path, clock: Clock
) -> None:
    clock.now = datetime.now(UTC)
    home = make_standin(tmp_path / "m")
    make_file(home / "Downloads/films/a.mkv", 9000, days_old=200)
    make_file(home / "Downloads/b.pdf", 100, days_old=200)
    (tmp_path / "m/things.json").write_text(
        json.dumps([{"source": "programs", "name": "Tidebook", "size": 5000, "made": None}])
    )
    owner.runs.survey(machine.tag)
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m").once()
    listing = ("survey", "list", "ferry-desk")
    rows = phylax(*listing, "downloads", "--largest", "--format", "csv").stdout.splitlines()
    assert "a.mkv" in rows[1] and "b.pdf" in rows[2]
    assert "not known" in phylax(*listing, "programs").stdout
    folders = ("survey", "list-folders", "ferry-desk", "downloads")
    place = phylax(*folders).stdout
    assert "8.9 KiB" in place and "/home/anna/Downloads" in place
    inside = phylax(*folders, "--place", "/home/anna/Downloads").stdout
    assert "films" in inside and "(directly)" in inside


def test_a_token_file_that_is_gone_costs_only_what_needs_a_token(
    phylax: Run, tmp_path: Path
) -> None:
    gone = str(tmp_path / "gone.token")
    refused = phylax("today", PHYLAX_TOKEN_FILE=gone)
    assert refused.returncode == 2
    assert f"The token file {gone} cannot be read" in refused.stderr
    assert "run 'phylax sign-in'" in refused.stderr
    assert phylax("today", "--help", PHYLAX_TOKEN_FILE=gone).returncode == 0
    odd = tmp_path / "odd.token"
    odd.write_bytes(b"\xff\xfe")
    assert phylax("today", PHYLAX_TOKEN_FILE=str(odd)).returncode == 2

"""No page, timer or order walks a history: the plans of all queries a busy day asks are read."""

import re
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path

import httpx
import pytest

from helpers import TUESDAY, Clock, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.attention.notices import AtOnce, MailServerEdit, WishesEdit
from phylax.core.clients.shop import Machine
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.scheduling.calendars import FeedEdit
from phylax.service.attention import monitor
from phylax.service.attention.notices import compose, post
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler
from phylax.store.file.database import Database

GROWS = re.compile(
    r"SCAN (readings|reading_days|runs|records|surveys|survey_items|events|messages|consents"
    r"|consent_items|audit|standing_consents|profiles|survey_parts|run_steps|presence|sleeps"
    r"|outages|round_machines|postponed|routine_lengths|volume_cleanings|freed_weeks|survey_sums"
    r"|attention|notices|notice_attention|rule_changes|d|f|k|n|r|s|i)"
    r"\b(?! USING (COVERING )?INDEX| VIRTUAL)"
)


@pytest.fixture
def asked(context: Context, monkeypatch: pytest.MonkeyPatch) -> Iterator[set[str]]:
    """Every statement that connections of the house are asked from now on."""
    statements: set[str] = set()
    make = Database._connect

    def traced(self: Database) -> sqlite3.Connection:
        connection = make(self)
        connection.set_trace_callback(statements.add)
        return connection

    monkeypatch.setattr(Database, "_connect", traced)
    context.db._writer.set_trace_callback(statements.add)
    while not context.db._readers.empty():
        context.db._readers.get().close()
    yield statements
    context.db._writer.set_trace_callback(None)


@contextmanager
def _plain(path: Path) -> Iterator[sqlite3.Connection]:
    connection = sqlite3.connect(path)
    yield connection
    connection.close()


def test_no_query_walks_what_grows(
    owner: Phylax, machine: Machine, context: Context, asked: set[str], tmp_path: Path, clock: Clock
) -> None:
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", days_old=3)
    make_file(home / "Downloads/thing", days_old=300)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=timedelta(days=90)))
    owner.rounds.add(TUESDAY)
    owner.runs.survey(machine.tag)
    agent.once()
    ledger = owner.machines.ledger(machine.tag)
    consent = owner.surveys.consent(ledger.survey_id, "downloads")
    owner.runs.clean(machine.tag, ["user-temp", "downloads"], consents=[consent.id])
    agent.once()
    clock.pass_(timedelta(days=9))
    scheduler.tick(context)
    owner.today()
    owner.records.add_note(machine.tag, "Looked at the plans.")
    list(owner.records.list(words="plans"))
    list(owner.records.list(machine=machine.tag))
    list(owner.runs.list(machine=machine.tag))
    list(owner.surveys.listing(ledger.survey_id, "downloads"))
    list(owner.machines.surveys(machine.tag))
    list(owner.machines.consents(machine.tag))
    list(owner.surveys.listing(ledger.survey_id, "downloads", largest_first=True))
    owner.surveys.folders(ledger.survey_id, "downloads")
    owner.surveys.order(ledger.survey_id, "downloads")
    entry = ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.dcm")
    owner.protections.remove(owner.protections.add(entry).id)
    owner.programs.on(machine.tag)
    owner.questions.of("machine", machine.id)
    given = owner.standing_consents.give(machine.tag, "downloads")
    owner.standing_consents.take_back(given.id)
    owner.rules.what_if("trash", Rule(keep_for=timedelta(days=3)))
    owner.machines.trend(machine.tag)
    owner.machines.free_lines([machine.id])
    list(owner.rounds.runs(1))
    owner.rounds.machines(1)
    owner.rounds.habits(1)
    owner.rounds.presence(1)
    owner.rounds.agenda(since=clock.now - timedelta(days=20), until=clock.now + timedelta(days=9))
    owner.rounds.skip(1, machine.id)
    owner.runs.missed(clock.now - timedelta(days=20))
    owner.runs.again([run.id for run in owner.runs.missed(clock.now - timedelta(days=20))])
    owner.waiting_listings.list()
    (bench,) = owner.routines.run(3, [machine.id], on_bench=True)
    owner.runs.tick(bench.id, 1)
    agent.once()
    monitor.whole(context)
    monitor.watch(context)
    items = owner.attention.list()
    assert items
    owner.attention.settle(items[0], "looked at")
    server = MailServerEdit(
        host="127.0.0.1", port=1, security="none", sender="phylax@quayside.example"
    )
    owner.notices.set_mail_server(server, None)
    me = owner.people.me().id
    wishes = WishesEdit(mail="ines@quayside.example", at_once=AtOnce.ALL, daily=True)
    owner.notices.set_wishes(owner.notices.wishes(me), wishes)
    clock.pass_(timedelta(hours=1))
    compose(context)
    post(context)
    list(owner.notices.list())
    list(owner.notices.list(state="given up"))
    owner.machines.outlooks(machine.tag)
    owner.machines.regrowth(machine.tag)
    owner.machines.readings(machine.tag)
    owner.trends.shop()
    owner.trends.volumes()
    scraped = {"Authorization": f"Bearer {owner.people.make_token('measures').token}"}
    httpx.get(f"{owner.url}/metrics", headers=scraped, timeout=60).raise_for_status()
    feed = owner.calendars.add(FeedEdit(name="Plans"))
    httpx.get(f"{owner.url}{feed.path}", timeout=60).raise_for_status()

    walks = []
    with _plain(context.db.path) as conn:
        for statement in tuple(asked):  # the service's own timers ask meanwhile
            if not re.match(r"\s*(SELECT|UPDATE|DELETE|INSERT)", statement):
                continue
            try:
                plan = [row[3] for row in conn.execute(f"EXPLAIN QUERY PLAN {statement}")]
            except sqlite3.OperationalError:
                continue
            if statement.endswith("ORDER BY id DESC LIMIT 1"):
                continue  # one step from the end of the table, which the plan calls a scan
            walks += [(step, statement) for step in plan if GROWS.match(step)]
    assert len(asked) > 60
    assert not walks, "\n".join(map(str, walks))

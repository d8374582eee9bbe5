"""A client with a life, whose every word is one that nothing else has; and what is left of them."""

from __future__ import annotations

import re
from pathlib import Path
from sqlite3 import Connection

import pytest

from conftest import Service
from helpers import enrol, make_file, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import NotSignedInError, Phylax, sign_in
from phylax.core.clients.importing.request import ImportRequest
from phylax.core.clients.shop import Client, ClientEdit, Machine, MachineEdit
from phylax.core.desk.visits import HandOver, NewVisit
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.ground.values import edit_of
from phylax.core.reporting.request import ReportRequest
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.scheduling.rounds import RoundEdit
from phylax.service.backups import making
from phylax.service.context.context import Context
from phylax.service.erasing import forgetting
from pictures import picture

NAME, PERSON, MAIL = "Zwirbelkontor Quitzow", "Hjalmar Vöxquist", "kontor@zwirbelpost.example"
PHONE, TAG, SERIAL = "0777 313 3331", "zwirbel-kasse", "ZQX88120K"
FILM, NOTE, EARLIER = "urlaubsfilm-jjqv.mkv", "Krumpholzwurzel", "Blixtfaden Handel"
NICK = "Hjallepantz"
WORDS = (NAME, PERSON, MAIL, PHONE, TAG, SERIAL, FILM, NOTE, EARLIER, NICK)

GO_ON = forgetting.go_on
"""As it is, where a test keeps the service from doing it by itself."""
FORGET = Forget(why=f"{NAME} asked for it", words=(NICK,))


def left_in(content: bytes) -> list[str]:
    """Words of the forgotten in some bytes, and ends of words, as an index keeps them."""
    folded = content.lower()
    parts = {part for word in WORDS for part in re.findall(r"[A-Za-z0-9]+", word) if len(part) > 4}
    parts -= {"example"}
    wanted = {*WORDS, *parts, *(part[2:] for part in parts), *(part[-5:] for part in parts)}
    return sorted(word for word in wanted if len(word) > 4 and word.lower().encode() in folded)


def bytes_below(folder: Path, *but: str) -> bytes:
    """All files of a folder, but those of some folders in it."""
    return b"\n".join(
        path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and not {*but} & {*path.relative_to(folder).parts}
    )


def live_through_much(
    owner: Phylax, service: Service, context: Context, others: Machine, folder: Path
) -> tuple[Client, Agent]:
    """Renamed, cleaned with a hold, on the bench, reported, imported, named in others' things,
    refused at sign-in, searched for; then retired."""
    client = owner.clients.add(ClientEdit(name=EARLIER, contact=PERSON, mail=MAIL, phone=PHONE))
    client = owner.clients.change(client, edit_of(ClientEdit, client, name=NAME, note=NOTE))
    machine = owner.machines.add(
        MachineEdit(tag=TAG, client_id=client.id, system="linux", serial=SERIAL, used_by=PERSON)
    )
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for="P30D"))
    home = make_standin(folder / "machine")
    for name in (FILM, f"{NOTE}.tmp"):
        make_file(home / ".tmp" / name, 1_000_000, days_old=30)
    agent = enrol(owner, TAG, folder / "agent", folder / "machine")
    owner.runs.survey(TAG)
    agent.once()
    run = owner.runs.clean(TAG, ["user-temp"])
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.held is not None and ended.held.count == 2, ended
    visit = owner.visits.open(
        NewVisit(machine_id=machine.id, reported_problem=f"{PERSON}: {NOTE} is slow")
    )
    owner.visits.seal_note(visit.id, f"Sign-in of {PERSON}", NOTE)
    attached = owner.records.upload(f"{NOTE}.png", picture("PNG"))
    owner.records.add_note(TAG, f"{PERSON} brought {FILM}.", attachments=[attached])
    owner.reports.make(ReportRequest(visit=visit.id))
    owner.visits.hand_over(owner.visits.get(visit.id), HandOver(outcome="mended"))
    owner.records.add_note(others.id, f"The same fan as {TAG} of {NAME} has; 14 EUR.")
    nights = {"name": f"Nights of {NAME}", "routine_id": next(owner.routines.list()).id,
              "recurrence": "FREQ=DAILY", "at": "19:00", "starts_on": "2026-03-01",
              "client_ids": [client.id]}  # fmt: skip
    owner.rounds.add(RoundEdit.model_validate(nights))
    owner.rounds.add(RoundEdit.model_validate(nights | {"name": "Vöxquists, weekly"}))
    owner.records.add_note(others.id, f"{NICK} came by for it.")
    entry = ProtectEntry(kind=ProtectKind.PATTERN, pattern=f"*{FILM}")
    owner.protections.add(entry, scope=Scope.CLIENT, subject_id=client.id, note=NOTE)
    listed = f"client,number,tag,system\n{NAME},{SERIAL},{TAG},linux\n".encode()
    asked = ImportRequest.model_construct(content=listed)
    asked = ImportRequest.model_validate(asked.model_dump(mode="json"))
    owner.imports.take_in(asked, owner.imports.preview(asked))
    with pytest.raises(NotSignedInError):
        sign_in(service.url, MAIL, f"{NOTE} 12345")
    assert owner.search(NAME).groups
    with context.db.write() as conn:
        conn.execute(
            "INSERT INTO notices (uid, kind, receiver, subject, body, made_at, due_at, state)"
            " VALUES ('x', 'daily', 'ines@quayside.example', 'Today', ?, 1, 1, 'delivered')",
            (f"{TAG} of {NAME} needs attention.",),
        )
        conn.execute(
            "INSERT INTO views (person_id, page, name, query) VALUES (1, 'machines', ?, ?)",
            (f"Of {NAME}", f"words={TAG}"),
        )
    return owner.clients.retire(owner.clients.get(client.id), "Moved away"), agent


def left_anywhere(context: Context) -> list[str]:
    """In the data directory, but the backups."""
    return left_in(bytes_below(context.db.path.parent, making.BESIDE, "client"))


def check_indexes(conn: Connection) -> None:
    """Each index of words is what it would be if it were made anew."""
    for index in ("records_text", "files_text"):
        conn.execute(f"INSERT INTO {index} ({index}, rank) VALUES ('integrity-check', 1)")
        with_terms = "SELECT term, col, doc, offset FROM temp.terms ORDER BY 1, 2, 3, 4"
        conn.execute(f"CREATE VIRTUAL TABLE temp.terms USING fts5vocab(main, {index}, instance)")
        kept = [tuple(row) for row in conn.execute(with_terms)]
        conn.execute(f"INSERT INTO {index} ({index}) VALUES ('rebuild')")
        assert kept == [tuple(row) for row in conn.execute(with_terms)], index
        conn.execute("DROP TABLE temp.terms")

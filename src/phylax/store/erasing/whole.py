"""A client forgotten, from the first word to the last page; and forgotten again, where a backup or
an archive brought them back."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from phylax.core.erasing.forgetting.request import Forget, Forgetting
from phylax.core.erasing.forgetting.words import Words
from phylax.store.clients import forgettings
from phylax.store.erasing import chain, forgotten, forgotten_file, pages, rows
from phylax.store.erasing.sweep import sweep
from phylax.store.file.database import Database
from phylax.store.record import records

_WAITS_FOR_READERS = 5.0
_SERVICE = "the service"


def carry_out(
    database: Database, number: int, *, at: int, also: Sequence[str] = (),
    seconds: float = _WAITS_FOR_READERS,
) -> bool:  # fmt: skip
    """Forget a client, from wherever it was cut off; whether it is done. Nothing of theirs is in
    the file then, nor in copies beside it. OSError, sqlite3.Error: it goes on the next time.
    `also`: digests of entries that are known to name them, by words that nobody knows any more."""
    with database.read() as conn:
        asked = forgettings.get(conn, number)
    assert asked is not None
    client, who = asked.client_id, asked.requested_by
    _begin(database, asked, at)
    with database.read() as conn:
        words = forgettings.words(conn, number)
        machines = forgotten.machines_of(conn, client)
    put = f"forgotten client {client}"
    _erase_entries(database, number, client, who=who, at=at)
    elsewhere = chain.erase_naming(database, client, words, put, also=also, who=who, at=at)
    with database.write() as conn:
        forgettings.note(conn, number, entries=elsewhere)
    chain.erase_deeds(database, client, machines, words, f"actions about client {client}", who=who,
                      at=at)  # fmt: skip
    rows.remove(database, client)
    rows.blank(database, client, at=at)
    rows.rename_rounds(database, client, machines)
    sweep(database, words, put, machines)
    # what was written meanwhile by what had begun before
    _erase_entries(database, number, client, who=who, at=at)
    with database.write() as conn:
        forgettings.wipe(conn, number)
        conn.execute("DELETE FROM idempotency WHERE instr(body, ?)", (f'"client_id":{client},',))
    pages.merge_indexes(database)
    for copy in _copies(database.path):
        copy.unlink(missing_ok=True)
    if not pages.fold_log(database, seconds=seconds):
        with database.write() as conn:
            forgettings.note(conn, number, waits_for="something that reads the file for long")
        return False
    return True


def _erase_entries(database: Database, number: int, client: int, *, who: str, at: int) -> None:
    with database.read() as conn:
        entries = chain.of_machines(conn, client)
    for machine, numbers in entries.items():
        chain.erase_machine(database, machine, numbers, who=who, at=at)
    with database.write() as conn:
        forgettings.note(conn, number, entries=sum(map(len, entries.values())))


def _begin(database: Database, asked: Forgetting, at: int) -> None:
    """What is looked for is settled once: later, some of it is gone already. Outside the file it is
    known first, so that whatever happens now, a restored backup forgets again."""
    with database.read() as conn:
        further = forgettings.words(conn, asked.id)
        words = Words([*forgettings.words_of(conn, asked.client_id).all, *further.all])
        elsewhere = chain.naming(conn, asked.client_id, words)
        numbered = forgotten.numbered(conn, asked.client_id)
        digests = tuple(records.digest_at(conn, number) for _, number, _ in elsewhere)
    forgotten_file.note(database.path.parent, numbered._replace(entries=digests))
    if asked.state != "under way":
        with database.write() as conn:
            forgettings.begin(conn, asked.id, words, at=at)


def _copies(file: Path) -> Iterable[Path]:
    """Of before an upgrade, and what a restore replaced."""
    for kind in ("schema", "replaced"):
        yield from file.parent.glob(f"{file.name}.{kind}-*")


def again(database: Database, folders: Iterable[Path], *, at: int) -> int:
    """Forget those again who were forgotten already and are in the file; how many. A file that was
    just put in its place has no reader."""
    count = 0
    for known in forgotten_file.read(folders):
        with database.read() as conn:
            if not forgotten.is_there(conn, known):
                continue
            already = forgettings.of_client(conn, known.client)
        with database.write() as conn:
            if already is None or already.state in ("done", "postponed"):
                if already is not None and already.state == "postponed":
                    forgettings.call_off(conn, already.id)
                number = forgettings.add(conn, known.client, Forget(), None, who=_SERVICE, at=at)
            else:
                number = already.id
            # answers of before are nobody's any more, and may hold words that only somebody knew
            conn.execute("DELETE FROM idempotency")
        if carry_out(database, number, at=at, also=known.entries):
            with database.write() as conn:
                forgettings.end(conn, number, at=at)
        count += 1
    return count

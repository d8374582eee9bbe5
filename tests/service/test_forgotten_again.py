"""A client who was forgotten is not brought back by a backup or an archive."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from datetime import timedelta
from pathlib import Path

import pytest

from conftest import serving
from forgotten_shop import (
    FORGET,
    GO_ON,
    NAME,
    bytes_below,
    left_in,
)
from helpers import Clock
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Client, ClientEdit, Machine
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.record.records import verify
from phylax.service.backups import restoring
from phylax.service.context.context import Context
from phylax.service.erasing import forgetting
from phylax.service.record.archives import loading
from phylax.service.serving.serve import server_config
from phylax.store.erasing import forgotten_file, whole
from phylax.store.file.database import Database
from phylax.store.file.shop_file import FILE
from phylax.store.record import audit, records


def test_a_restored_backup_forgets_again_at_once(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, clock: Clock, tmp_path: Path
) -> None:
    client, _ = lived
    backup = owner.backups.make()
    file = Path(backup.place, backup.name)
    owner.archives.shop(tmp_path / "shop.zip")
    owner.clients.forget(client, FORGET)
    GO_ON(context)
    assert left_in(file.read_bytes()), "the backup has them, until its time comes"
    # on another machine, with nothing but the backups that were made before
    restoring.restore(tmp_path / "from-backups", file)
    assert left_in(bytes_below(tmp_path / "from-backups")) == []
    clock.pass_(timedelta(days=30))
    later = owner.backups.make()
    assert later.name != backup.name and left_in(file.read_bytes())
    assert left_in(Path(later.place, later.name).read_bytes()) == []
    assert left_in((Path(later.place) / forgotten_file.FILE).read_bytes()) == []

    # on another machine: nothing is known there but what lies beside the backups
    data = tmp_path / "elsewhere"
    restoring.restore(data, file)
    assert left_in(bytes_below(data)) == []
    loading.load(tmp_path / "loaded", _beside(tmp_path / "shop.zip", Path(later.place)))
    assert left_in(bytes_below(tmp_path / "loaded")) == []
    for folder in (data, tmp_path / "loaded"):
        with closing(sqlite3.connect(folder / FILE)) as conn:
            conn.row_factory = sqlite3.Row
            checked = verify(records.chain(conn))
            assert checked.intact and checked.erased >= 5 and audit.verify(conn).intact
            assert conn.execute("SELECT state FROM forgettings").fetchone()[0] == "done"
        # once more is not done again
        database = Database(folder / FILE)
        assert whole.again(database, [folder], at=1) == 0
        database.close()


def _beside(archive: Path, known_in: Path) -> Path:
    folder = archive.parent / "beside"
    folder.mkdir()
    shutil.copy(known_in / forgotten_file.FILE, folder)
    return Path(shutil.copy(archive, folder))


def test_backups_made_before_can_go_too(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, clock: Clock
) -> None:
    client, _ = lived
    older = owner.backups.make()
    clock.pass_(timedelta(days=1))
    owner.clients.forget(client, FORGET.model_copy(update={"with_backups": True}))
    GO_ON(context)
    (now,) = [backup for backup in owner.backups.list() if not backup.gone_at]
    assert Path(now.place, now.name).exists() and not Path(older.place, older.name).exists()
    assert now.id != older.id and owner.clients.forgettings()[0].state == "done"
    assert left_in(bytes_below(Path(now.place))) == []


def test_another_client_of_the_same_number_is_not_forgotten(
    by_hand: None, owner: Phylax, context: Context, other: Machine, tmp_path: Path
) -> None:
    """A backup of before the client was there, and another who got the number then."""
    backup = owner.backups.make()
    client = owner.clients.add(ClientEdit(name=NAME))
    owner.clients.forget(owner.clients.retire(client), Forget())
    GO_ON(context)
    data = context.db.path.parent
    restoring.restore(tmp_path / "data", Path(backup.place, backup.name))
    shutil.copy(data / forgotten_file.FILE, tmp_path / "data")
    database = Database(tmp_path / "data" / FILE)
    with database.write() as conn:
        conn.execute(
            "INSERT INTO clients (id, name, contact, mail, phone, note, changed_by, changed_at,"
            " uid) VALUES (?, 'Harbour Choir', '', '', '', '', '', 1, 'another')",
            (client.id,),
        )
    assert whole.again(database, [tmp_path / "data"], at=1) == 0
    with database.read() as conn:
        name = conn.execute("SELECT name FROM clients WHERE id = ?", (client.id,)).fetchone()[0]
    database.close()
    assert name == "Harbour Choir"


def test_what_lies_outside_may_be_torn(tmp_path: Path) -> None:
    known = [forgotten_file.Forgotten("s", number, "u") for number in range(3)]
    for each in known:
        forgotten_file.note(tmp_path, each)
        forgotten_file.note(tmp_path, each)
    path = tmp_path / forgotten_file.FILE
    content = path.read_bytes()
    path.write_bytes(content + b'{"shop": "s", "cli')
    forgotten_file.note(tmp_path, known[0]._replace(client=7))
    path.write_bytes(path.read_bytes() + b"\xff[[[\n[]\n" + b"[" * 5000)
    assert [each.client for each in forgotten_file.read([tmp_path, tmp_path / "none"])] == [
        0,
        1,
        2,
        7,
    ]


def test_a_shop_starts_where_it_cannot_forget_again_yet(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*args: object, **more: object) -> int:
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(forgetting, "again", full)
    with serving(context, server_config(context, "127.0.0.1", 0)) as service:
        assert service.as_("ines").clients.forgettings() == []

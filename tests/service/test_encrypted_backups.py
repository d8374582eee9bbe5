"""Backups encrypted to a key whose other half is kept elsewhere."""

from __future__ import annotations

import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import pyrage
import pytest

from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.service.backups import encrypting, making, restoring
from phylax.service.context.context import Context
from phylax.store.backups import copies
from phylax.store.backups.copies import BadCopyError
from phylax.store.file.shop_file import FILE

PASSPHRASE = "quay lantern rope herring"


@pytest.fixture
def opener(owner: Phylax, tmp_path: Path) -> Path:
    """Backups are encrypted from now on; the file of the key that opens them."""
    identity = pyrage.x25519.Identity.generate()
    owner.backups.set_plan(owner.backups.plan(), public_key=str(identity.to_public()))
    file = tmp_path / "key.txt"
    file.write_text(f"# of the shop\n{identity}\n", "utf-8")
    return file


def test_encrypted_backups_are_opened_by_their_key_alone(
    owner: Phylax, machine: Machine, context: Context, opener: Path, tmp_path: Path
) -> None:
    owner.records.add_note(machine.id, "Ottilia's folder")
    made = owner.backups.make()
    file = Path(made.place, made.name)
    assert not made.why and made.entries == 2 and file.suffix == ".age"
    assert made.size == file.stat().st_size and file.stat().st_mode & 0o077 == 0
    assert encrypting.is_encrypted(file) and b"Ottilia" not in file.read_bytes()
    assert not list(context.db.path.parent.glob(".backup-*")), "nothing lies in clear"
    assert Path(f"{file}.seal").read_text("utf-8").startswith("phylax/")
    with pytest.raises(BadCopyError):
        restoring.outlook(tmp_path / "elsewhere", file)
    identity = encrypting.identity_of(opener, None)
    with encrypting.decrypted(file, identity, tmp_path) as clear:
        restoring.restore(tmp_path / "elsewhere", clear)
    assert not list(tmp_path.glob(".clear-*"))
    with closing(sqlite3.connect(tmp_path / "elsewhere" / FILE)) as conn:
        words = [text for (text,) in conn.execute("SELECT text FROM record_words")]
    assert "Ottilia's folder" in words


def test_the_tool_of_the_format_opens_them_as_well(
    owner: Phylax, machine: Machine, opener: Path, tmp_path: Path
) -> None:
    made = owner.backups.make()
    command = ["age", "-d", "-i", str(opener), "-o", str(tmp_path / "out.sqlite3"),
               str(Path(made.place, made.name))]  # fmt: skip
    subprocess.run(command, check=True, timeout=60)
    assert copies.check(tmp_path / "out.sqlite3").entries == made.entries


def test_a_wrong_key_a_wrong_passphrase_and_half_a_file_are_said(
    owner: Phylax, machine: Machine, opener: Path, tmp_path: Path
) -> None:
    made = owner.backups.make()
    file = Path(made.place, made.name)
    identity = encrypting.identity_of(opener, None)
    other, key = tmp_path / "other.txt", encrypting.new_key(PASSPHRASE)
    other.write_bytes(key.identity)
    assert b"AGE-SECRET-KEY" not in key.identity
    opened = encrypting.identity_of(other, PASSPHRASE)
    assert str(opened.to_public()) == key.public_key
    with pytest.raises(BadCopyError, match="passphrase does not open"):
        encrypting.identity_of(other, "quay lantern rope haddock")
    for odd in (b"", b"AGE-SECRET-KEY-1NO", b"\xff" * 100, bytes(200_000)):
        (tmp_path / "odd").write_bytes(odd)
        with pytest.raises(BadCopyError, match="holds no identity"):
            encrypting.identity_of(tmp_path / "odd", None)
    half = tmp_path / "half.age"
    half.write_bytes(file.read_bytes()[:-5])
    altered = tmp_path / "altered.age"
    altered.write_bytes(file.read_bytes()[:-5] + b"12345")
    for bad, by in ((file, opened), (half, identity), (altered, identity)):
        with (
            pytest.raises(BadCopyError, match="another key, or it was altered"),
            encrypting.decrypted(bad, by, tmp_path),
        ):
            pass
    assert not list(tmp_path.glob(".clear-*"))


def test_what_lies_in_clear_for_a_moment_is_cleared_after_a_kill(
    owner: Phylax, context: Context, opener: Path
) -> None:
    left = [context.db.path.parent / name for name in (".backup-killed", ".clear-killed")]
    for folder in left:
        folder.mkdir()
        (folder / FILE).write_bytes(b"in clear")
    half = making.place_of(context, owner.backups.plan())
    half.mkdir(exist_ok=True)
    (half / "phylax-2026-01-01T000000Z.sqlite3.age.part").write_bytes(b"x")
    made = owner.backups.make()
    assert not any(folder.exists() for folder in left)
    assert sorted(p.name for p in half.glob("phylax-*")) == [
        made.name, f"{made.name}.seal",
    ]  # fmt: skip


def test_a_disk_that_writes_something_else_is_noticed(
    owner: Phylax, machine: Machine, opener: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = encrypting._digest

    def torn(path: Path) -> bytes:
        with path.open("r+b") as file:
            file.seek(200)
            file.write(b"torn")
        return whole(path)

    monkeypatch.setattr(encrypting, "_digest", torn)
    made = owner.backups.make()
    assert "not written as it should be" in made.why
    assert not list(Path(made.place).glob("phylax-*"))


def test_keys_that_are_none_and_passphrases_soon_guessed_are_refused(owner: Phylax) -> None:
    for odd in ("age1" + "q" * 58, "age1short", "AGE-SECRET-KEY-1"):
        with pytest.raises((RefusedError, ValueError), match=r"public_key|public key of age"):
            owner.backups.set_plan(owner.backups.plan(), public_key=odd)
    for soon in ("", "password", "herring"):
        with pytest.raises(ValueError, match="soon guessed"):
            encrypting.new_key(soon)

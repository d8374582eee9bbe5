"""Secrets in the file are worth nothing without the key beside it."""

from __future__ import annotations

import shutil
from datetime import timedelta
from pathlib import Path

import httpx
import pyotp
import pytest

from conftest import Service
from helpers import PASSWORD, Clock
from phylax.client import Phylax, RefusedError, sign_in
from phylax.core.attention.notices import HookEdit
from phylax.service.context.context import Context
from phylax.service.context.secret_box import BESIDE, LostKeyError, SecretBox
from phylax.service.context.secret_keys import close_all, new_key
from phylax.store.attention import notices
from phylax.store.file.shop_file import HeldError, alone
from phylax.store.people import people


def test_no_secret_of_hooks_and_codes_is_in_the_file(
    service: Service, owner: Phylax, clock: Clock, context: Context, tmp_path: Path
) -> None:
    hook = owner.hooks.add(HookEdit(name="till", url="https://till.example/", at_once="all"))
    begun = owner.people.begin_codes()
    codes = pyotp.parse_uri(begun.address)
    owner.people.confirm_codes(codes.at(clock.now))
    kept = context.db.path.read_bytes() + Path(f"{context.db.path}-wal").read_bytes()
    for secret in (hook.secret, codes.secret):
        assert secret.encode() not in kept
    with context.db.read() as conn:
        assert context.vault.open(notices.hook_secret(conn, hook.id)) == hook.secret
    clock.pass_(timedelta(seconds=60))
    assert sign_in(service.url, "ines", PASSWORD, codes.at(clock.now))
    key = context.db.path.parent / BESIDE
    assert key.stat().st_mode & 0o077 == 0
    shutil.move(key, tmp_path / "key")
    context.vault = SecretBox(context.db.path.parent)
    clock.pass_(timedelta(seconds=60))
    with pytest.raises(RefusedError, match="lost the key"):
        sign_in(service.url, "ines", PASSWORD, codes.at(clock.now))
    assert httpx.get(f"{service.url}/api/v2/health").is_success


def test_what_an_earlier_version_left_open_is_closed(context: Context) -> None:
    with context.db.write() as conn:
        edit = HookEdit(name="till", url="https://till.example/", at_once="all")
        number = notices.add_hook(conn, edit, "hook_in_clear", who="x", at=0)
    close_all(context)
    with context.db.read() as conn:
        kept = notices.hook_secret(conn, number)
    assert "clear" not in kept and context.vault.open(kept) == "hook_in_clear"
    close_all(context)
    with context.db.read() as conn:
        assert notices.hook_secret(conn, number) == kept


def test_a_new_key_is_taken_while_no_service_runs(context: Context) -> None:
    data = context.db.path.parent
    with context.db.write() as conn:
        (ines,) = [person for person in people.everyone(conn) if person.login == "ines"]
        people.set_codes(conn, ines.id, context.vault.close("JBSWY3DPEHPK3PXP"))
    before = (data / BESIDE).read_text()
    with alone(data, "a service"), pytest.raises(HeldError):
        new_key(data)
    assert new_key(data) == 1
    assert (data / BESIDE).read_text() != before and len((data / BESIDE).read_text().split()) == 1
    with context.db.read() as conn:
        kept = people.codes_secret(conn, ines.id)
    assert kept and SecretBox(data).open(kept) == "JBSWY3DPEHPK3PXP"
    (data / BESIDE).write_text(before)
    with pytest.raises(LostKeyError):
        SecretBox(data).open(kept)


def test_a_key_change_that_was_cut_off_leaves_all_readable(tmp_path: Path) -> None:
    vault = SecretBox(tmp_path)
    kept = vault.close("secret")
    vault.add_key()
    assert SecretBox(tmp_path).open(kept) == "secret" and not SecretBox(tmp_path).is_of_newest(kept)
    assert SecretBox(tmp_path).open(vault.close("other")) == "other"

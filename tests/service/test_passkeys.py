"""Passkeys: who has the device gets in, and nobody else, whatever a device or a page says."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator
from datetime import timedelta

import httpx
import pyotp
import pytest

from conftest import Service
from helpers import PASSWORD, Clock
from phylax.client import NotSignedInError, Phylax
from phylax.core.people.accounts import CodesFor
from phylax.service.http import passkeys
from phylax.service.limits.challenges import LASTS
from soft_authenticator import PRESENT, Device


class Console:
    """What a browser asks for, at an address of its own."""

    def __init__(self, service: Service, host: str = "localhost") -> None:
        port = service.url.rpartition(":")[2]
        self.origin = f"http://{host}:{port}"
        headers = {"Origin": self.origin, "Host": f"{host}:{port}"}
        self._http = httpx.Client(base_url=f"{service.url}/api/v2", headers=headers, timeout=60)

    def close(self) -> None:
        self._http.close()

    def post(self, path: str, **body: object) -> httpx.Response:
        return self._http.post(path, json=body)

    def get(self, path: str) -> httpx.Response:
        return self._http.get(path)

    def delete(self, path: str) -> httpx.Response:
        return self._http.delete(path)

    def sign_in(self, login: str) -> httpx.Response:
        return self.post("/sign-in", login=login, password=PASSWORD)

    def question(self, path: str) -> str:
        answer = self.post(path)
        assert answer.status_code == 200, answer.text
        return str(answer.json()["options"])

    def add(self, device: Device, name: str = "Phone") -> httpx.Response:
        made = device.makes(self.question("/me/passkeys/question"))
        return self.post("/me/passkeys", name=name, credential=made)

    def by_passkey(self, device: Device) -> httpx.Response:
        return self.post(
            "/passkey/sign-in", credential=device.signs(self.question("/passkey/question"))
        )


@pytest.fixture
def console(service: Service) -> Iterator[Console]:
    browser = Console(service)
    yield browser
    browser.close()


@pytest.fixture
def other(service: Service) -> Iterator[Console]:
    browser = Console(service)
    yield browser
    browser.close()


@pytest.fixture
def device(console: Console) -> Device:
    """Wren's, who is signed in at the console."""
    console.sign_in("wren")
    device = Device(console.origin)
    assert console.add(device).status_code == 201
    return device


def test_a_device_lets_its_person_in(
    console: Console, other: Console, device: Device, owner: Phylax
) -> None:
    device.count += 1
    answer = other.by_passkey(device)
    assert answer.status_code == 200 and answer.json()["login"] == "wren"
    assert other.get("/me").json()["passkeys"] == 1
    (kept,) = other.get("/me/passkeys").json()
    assert (kept["name"], kept["host"]) == ("Phone", "localhost") and kept["used_at"]
    actions = [action.action for action in owner.people.audit()]
    assert "add passkey" in actions and "sign in" in actions
    assert other.delete(f"/me/passkeys/{kept['id']}").status_code == 204
    assert other.by_passkey(device).status_code == 401
    assert other.delete(f"/me/passkeys/{kept['id']}").status_code == 404


def test_what_was_signed_counts_once_and_in_its_time(
    console: Console, other: Console, device: Device, clock: Clock
) -> None:
    # phones do not count
    phone = Device(console.origin, count=0)
    assert console.add(phone, "Phone that does not count").status_code == 201
    said = phone.signs(other.question("/passkey/question"))
    assert other.post("/passkey/sign-in", credential=said).status_code == 200
    assert other.post("/passkey/sign-in", credential=said).status_code == 401, "a second time"
    assert other.by_passkey(phone).status_code == 200
    late = other.question("/passkey/question")
    clock.pass_(timedelta(seconds=LASTS + 1))
    assert other.post("/passkey/sign-in", credential=phone.signs(late)).status_code == 401


@pytest.mark.parametrize(
    "lie",
    [
        lambda d: setattr(d, "flags", PRESENT),
        lambda d: setattr(d, "count", 1),
        lambda d: setattr(d, "origin", "https://phylax-quayside.example"),
        lambda d: setattr(d, "origin", d.origin + "0"),
        lambda d: setattr(d, "key", Device("x").key),
        lambda d: setattr(d, "credential", b"another"),
    ],
    ids=["user not verified", "count set back", "page elsewhere", "other port", "key", "name"],
)
def test_a_device_that_says_something_else_is_not_let_in(
    console: Console, other: Console, device: Device, lie: object
) -> None:
    device.count = 5
    assert other.by_passkey(device).status_code == 200
    device.count = 6
    lie(device)  # type: ignore[operator]
    answer = other.by_passkey(device)
    assert answer.status_code == 401 and "not known here" in answer.json()["detail"]


def test_challenges_count_for_what_they_were_asked_for(
    console: Console, other: Console, device: Device
) -> None:
    """One to make a passkey signs nobody in, and one of somebody else makes none."""
    making = json.loads(console.question("/me/passkeys/question"))
    crossed = json.dumps({"challenge": making["challenge"], "rpId": "localhost"})
    assert other.post("/passkey/sign-in", credential=device.signs(crossed)).status_code == 401
    other.sign_in("petra")
    theirs = other.question("/me/passkeys/question")
    again = Device(console.origin)
    refused = console.post("/me/passkeys", name="x", credential=again.makes(theirs))
    assert refused.status_code == 422
    invented = json.dumps({"challenge": "AAAA" * 14, "rpId": "localhost"})
    assert other.post("/passkey/sign-in", credential=device.signs(invented)).status_code == 401


def test_a_passkey_is_one_persons_and_of_one_host(
    service: Service, console: Console, other: Console, device: Device
) -> None:
    other.sign_in("petra")
    assert other.add(device).status_code == 422, "it is Wren's"
    elsewhere = Console(service, "phylax.quayside.example")
    try:
        moved = Device(elsewhere.origin.replace("http:", "https:"), credential=device.credential,
                       key=device.key, count=9)  # fmt: skip
        assert elsewhere.by_passkey(moved).status_code == 401
        elsewhere.sign_in("wren")
        own = Device(elsewhere.origin.replace("http:", "https:"))
        assert elsewhere.add(own, "Key ring").status_code == 201
        own.count += 1
        assert elsewhere.by_passkey(own).status_code == 200
        # in clear there are passkeys on one's own machine only
        clear = Device(elsewhere.origin)
        assert elsewhere.add(clear).status_code == 422
    finally:
        elsewhere.close()
    by_address = Console(service, "127.0.0.1")
    try:
        answer = by_address.post("/passkey/question")
        assert answer.status_code == 409 and "by its name" in answer.json()["detail"]
    finally:
        by_address.close()


@pytest.mark.parametrize(
    "odd",
    ["x", "[]", "{}", '{"rawId": 5}', '{"rawId": "AAAA"}', "[" * 20_000,
     '{"rawId": "AAAA", "response": {"clientDataJSON": "e30"}}'],
)  # fmt: skip
def test_what_is_no_credential_is_refused(console: Console, device: Device, odd: str) -> None:
    assert console.post("/passkey/sign-in", credential=odd).status_code == 401
    assert console.post("/me/passkeys", name="x", credential=odd).status_code == 422
    known = json.dumps({"rawId": json.loads(device.signs(console.question("/passkey/question")))
                        ["rawId"], "response": []})  # fmt: skip
    assert console.post("/passkey/sign-in", credential=known).status_code == 401


def test_a_key_that_takes_long_to_check_is_refused(console: Console) -> None:
    """Else anybody could have it checked, again and again."""
    console.sign_in("wren")
    heavy = Device(console.origin)
    heavy.cose = {1: 3, 3: -257, -1: secrets.token_bytes(2000), -2: b"\x01\x00\x01"}
    answer = console.add(heavy)
    assert answer.status_code == 422
    assert console.get("/me").json()["passkeys"] == 0


def test_a_passkey_taken_off_while_it_signs_lets_nobody_in(
    console: Console, other: Console, device: Device, monkeypatch: pytest.MonkeyPatch
) -> None:
    check = passkeys.signed

    def slowly(*args: object, **more: object) -> int:
        count = check(*args, **more)  # type: ignore[arg-type]
        (kept,) = console.get("/me/passkeys").json()
        assert console.delete(f"/me/passkeys/{kept['id']}").status_code == 204
        return count

    monkeypatch.setattr(passkeys, "signed", slowly)
    device.count += 1
    assert other.by_passkey(device).status_code == 401


def test_who_tries_often_waits_and_who_is_kept_out_stays_out(
    console: Console, other: Console, device: Device, owner: Phylax
) -> None:
    wren = next(p for p in owner.people.list() if p.login == "wren")
    owner.people.set_activity(wren.id, active=False)
    device.count += 1
    assert other.by_passkey(device).status_code == 401
    stranger = Device(console.origin)
    states = [other.by_passkey(stranger).status_code for _ in range(6)]
    assert states[-1] == 429 and set(states) == {401, 429}
    owner.people.set_activity(wren.id, active=True)
    owner.people.leave_for_good(wren.id)
    left = next(p for p in owner.people.list() if p.login == "wren")
    assert left.passkeys == 0


def test_where_a_second_step_is_wanted_a_passkey_is_one_and_a_password_alone_is_none(
    service: Service, console: Console, other: Console, device: Device, owner: Phylax
) -> None:
    codes = pyotp.parse_uri(owner.people.begin_codes().address)
    owner.people.confirm_codes(codes.at(service.context.now()))  # type: ignore[attr-defined]
    owner.people.set_codes_for(CodesFor.EVERYBODY)
    assert console.get("/machines").status_code == 200, "the passkey was added in this sign-in"
    refused = other.sign_in("wren")
    assert refused.status_code == 401 and "with your passkey" in refused.json()["detail"]
    with pytest.raises(NotSignedInError, match="with your passkey"):
        service.as_("wren")
    device.count += 1
    assert other.by_passkey(device).status_code == 200
    assert other.get("/machines").status_code == 200
    # who has neither sets one of them up, and nothing else
    other.sign_in("petra")
    assert other.get("/machines").status_code == 403
    assert other.add(Device(other.origin)).status_code == 201
    assert other.get("/machines").status_code == 200
    # lost: an owner takes it off, and something new is set up
    wren = next(p for p in owner.people.list() if p.login == "wren")
    owner.people.take_codes_off(wren.id)
    assert other.by_passkey(device).status_code == 401
    assert other.sign_in("wren").status_code == 200
    assert other.get("/machines").status_code == 403

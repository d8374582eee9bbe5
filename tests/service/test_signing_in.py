"""Who may do what; secrets are shown once and kept as hashes."""

import importlib.util
from datetime import timedelta

import httpx
import pytest
from argon2 import Type, extract_parameters
from pydantic import ValidationError

from conftest import Service
from helpers import PASSWORD, Clock
from phylax.client import NotAllowedError, NotSignedInError, Phylax, RefusedError, sign_in
from phylax.core.clients.shop import ClientEdit, Machine
from phylax.core.people.accounts import NewPerson, Role
from phylax.core.retention import Rule, Scope


def test_a_wrong_password_and_an_unknown_login_look_the_same(service: Service) -> None:
    said = set()
    for login in ("ines", "nobody"):
        with pytest.raises(NotSignedInError) as refused:
            sign_in(service.url, login, "wrong")
        said.add(refused.value.detail)
    assert len(said) == 1


def test_tries_are_slowed_after_failures_and_free_again_later(
    service: Service, clock: Clock
) -> None:
    for _ in range(4):
        with pytest.raises(NotSignedInError):
            sign_in(service.url, "ines", "wrong")
    with pytest.raises(RefusedError) as slowed:
        sign_in(service.url, "ines", PASSWORD)
    assert slowed.value.status == 429
    clock.pass_(timedelta(seconds=2))
    assert sign_in(service.url, "ines", PASSWORD)


def test_no_secret_is_in_the_file_or_in_a_listing(service: Service, owner: Phylax) -> None:
    token = owner.people.make_token("backup script").token
    machine_key = [token, PASSWORD]
    listed = owner.send("GET", "/tokens").text + owner.send("GET", "/audit").text
    file = service.context.db.path
    kept = file.read_bytes() + file.with_name(file.name + "-wal").read_bytes()
    for secret in machine_key:
        assert secret not in listed
        assert secret.encode() not in kept


def test_a_withdrawn_token_no_longer_counts(service: Service, owner: Phylax) -> None:
    made = owner.people.make_token("old script")
    with Phylax(service.url, made.token) as script:
        assert script.people.me().login == "ines"
        owner.people.withdraw_token(made.id)
        with pytest.raises(NotSignedInError):
            script.people.me()


def test_a_person_who_left_is_out_at_once_but_somebody_must_own_the_shop(
    service: Service, owner: Phylax
) -> None:
    (wren,) = [p for p in owner.people.list() if p.login == "wren"]
    with service.as_("wren") as technician:
        assert not owner.people.set_activity(wren.id, False).active
        for refused in (technician.people.me, lambda: service.as_("wren")):
            with pytest.raises(NotSignedInError):
                refused()
        owner.people.set_activity(wren.id, True)
    with service.as_("wren") as again:
        assert again.people.me().login == "wren"
    with pytest.raises(RefusedError, match="The shop needs an owner"):
        owner.people.set_activity(owner.people.me().id, False)


def test_a_password_is_changed_by_who_knows_it(service: Service, owner: Phylax) -> None:
    with pytest.raises(NotSignedInError):
        owner.people.change_password("wrong", "another long password")
    with pytest.raises(ValidationError, match="at least 10"):
        owner.people.change_password(PASSWORD, "short")
    owner.people.change_password(PASSWORD, "another long password")
    with pytest.raises(NotSignedInError):
        sign_in(service.url, "ines", PASSWORD)
    assert sign_in(service.url, "ines", "another long password")


def test_roles(service: Service, owner: Phylax, machine: Machine) -> None:
    with service.as_("petra") as desk, service.as_("wren") as technician:
        desk.clients.add(ClientEdit(name="Tidewrack Pottery"))
        desk.records.add_note(machine.id, "Client asked.")
        technician.rules.put(Scope.MACHINE, machine.id, "trash", Rule(keep_for=timedelta(days=1)))
        newcomer = NewPerson(login="new", name="New", role=Role.DESK, password=PASSWORD)
        for refused in (
            lambda: desk.runs.survey(machine.id),
            lambda: desk.machines.enrolment_code(machine.id),
            lambda: technician.rules.put(Scope.SHOP, 0, "trash", Rule(off=True)),
            lambda: technician.people.add(newcomer),
            lambda: technician.people.audit(),
        ):
            with pytest.raises(NotAllowedError):
                refused()


def test_the_browsers_cookie_is_out_of_reach_of_scripts_and_other_sites(service: Service) -> None:
    body = {"login": "ines", "password": PASSWORD}
    with httpx.Client(base_url=service.url, headers={"Origin": service.url}) as browser:
        signed_in = browser.post("/api/v2/sign-in", json=body)
        cookie = signed_in.headers["set-cookie"].lower()
        assert "httponly" in cookie and "samesite=strict" in cookie
        assert browser.get("/api/v2/me").json()["login"] == "ines"
        assert browser.post("/api/v2/clients", json={"name": "Ours"}).status_code == 201
        for origin in ("https://elsewhere.example", "null", ""):
            foreign = browser.post(
                "/api/v2/clients", json={"name": "Theirs"}, headers={"Origin": origin}
            )
            assert foreign.status_code == 403, origin
        browser.post("/api/v2/sign-out")
        assert browser.get("/api/v2/me").status_code == 401


def test_everything_but_health_and_signing_in_needs_somebody(service: Service) -> None:
    with httpx.Client(base_url=service.url, timeout=60) as stranger:
        document = stranger.get("/openapi.json").json()
        open_to_all = {
            "/api/v2/health", "/api/v2/ready", "/api/v2/sign-in", "/api/v2/command-line/sign-in",
            "/api/v2/passkey/question", "/api/v2/passkey/sign-in",
            "/api/v2/agent/enrolment", "/calendar/{address}.ics",
        }  # fmt: skip
        for path, operations in document["paths"].items():
            for method in operations:
                if path in open_to_all:
                    continue
                address = path.replace("{scope}", "shop").replace("{", "").replace("}", "")
                answer = stranger.request(method, address)
                assert answer.status_code in (401, 422), (method, path, answer.status_code)
                assert "id" not in answer.json()


def test_passwords_are_hashed_slowly_outside_of_tests() -> None:
    """The module as it is loaded by the service; at least RFC 9106's low-memory choice."""
    spec = importlib.util.find_spec("phylax.service.limits.hashing")
    assert spec is not None and spec.loader is not None
    fresh = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(fresh)
    used = extract_parameters(fresh.hash_password("x"))
    assert used.type is Type.ID and used.time_cost >= 3 and used.memory_cost >= 64 * 1024

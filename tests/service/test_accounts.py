"""People come, change what they may do, forget passwords and leave; what they sign in with."""

from __future__ import annotations

import threading
from datetime import timedelta
from pathlib import Path

import httpx
import pyotp
import pytest
from pydantic import ValidationError

from conftest import Service
from helpers import PASSWORD, Clock
from phylax.client import NotAllowedError, NotSignedInError, Phylax, RefusedError, sign_in
from phylax.core.clients.shop import Machine
from phylax.core.people.accounts import CodesFor, NewPerson, Person, Role, TokenScope
from phylax.service.people.account_recovery import let_in

API = "/api/v2"
CHOSEN = "gorse under a slow kettle"


def whose(owner: Phylax, login: str) -> Person:
    return next(person for person in owner.people.list() if person.login == login)


def welcome(service: Service, secret: str, password: str = CHOSEN) -> httpx.Response:
    body = {"secret": secret, "password": password}
    headers = {"Origin": service.url}
    return httpx.post(f"{service.url}{API}/welcome", json=body, headers=headers, timeout=60)


# --- coming and leaving ---------------------------------------------------------------------------


def test_a_new_person_chooses_a_password_by_a_link_that_counts_once(
    service: Service, owner: Phylax
) -> None:
    made = owner.people.add(NewPerson(login="tobias", name="Tobias Quill", role=Role.TECHNICIAN))
    with pytest.raises(NotSignedInError):
        sign_in(service.url, "tobias", "")
    link = owner.people.make_link(made.id)
    assert welcome(service, link.secret).json()["login"] == "tobias"
    assert sign_in(service.url, "tobias", CHOSEN)
    assert welcome(service, link.secret).status_code == 403
    kept = service.context.db.path
    assert link.secret.encode() not in kept.read_bytes() + Path(f"{kept}-wal").read_bytes()


def test_who_forgot_a_password_gets_a_new_one_and_everything_before_ends(
    service: Service, owner: Phylax, clock: Clock
) -> None:
    wren = whose(owner, "wren")
    with service.as_("wren") as before:
        first, second = owner.people.make_link(wren.id), owner.people.make_link(wren.id)
        assert welcome(service, first.secret).status_code == 403, "the newest one counts"
        assert welcome(service, second.secret).status_code == 200
        with pytest.raises(NotSignedInError):
            before.people.me()
    late = owner.people.make_link(wren.id)
    clock.pass_(timedelta(days=3, seconds=1))
    assert welcome(service, late.secret).status_code == 403


def test_of_many_who_use_a_link_at_once_one_wins(service: Service, owner: Phylax) -> None:
    link = owner.people.make_link(whose(owner, "wren").id)
    statuses: list[int] = []
    threads = [
        threading.Thread(target=lambda: statuses.append(welcome(service, link.secret).status_code))
        for _ in range(4)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(statuses)[0] == 200 and statuses.count(200) == 1


@pytest.mark.parametrize("poor", ["password12", "wrenhalloran", "1234567890", "aaaaaaaaaaaa"])
def test_what_is_guessed_soon_is_no_password(service: Service, owner: Phylax, poor: str) -> None:
    link = owner.people.make_link(whose(owner, "wren").id)
    refused = welcome(service, link.secret, poor)
    assert refused.status_code == 422 and refused.json()["errors"][0]["pointer"] == "/password"
    with pytest.raises(RefusedError):
        owner.people.add(NewPerson(login="x", name="X", role=Role.DESK, password=poor))
    with pytest.raises(RefusedError):
        owner.people.change_password(PASSWORD, poor)
    assert welcome(service, link.secret).status_code == 200, "the link still counts"


def test_a_role_changes_what_one_may_do_at_once(
    service: Service, owner: Phylax, machine: Machine
) -> None:
    petra = whose(owner, "petra")
    with service.as_("petra") as desk:
        with pytest.raises(NotAllowedError):
            desk.machines.enrolment_code(machine.id)
        owner.people.set_role(petra.id, Role.TECHNICIAN)
        desk.machines.enrolment_code(machine.id)
    with pytest.raises(RefusedError, match="needs an owner"):
        owner.people.set_role(owner.people.me().id, Role.DESK)
    actions = {(action.action, action.subject) for action in owner.people.audit()}
    assert ("set role", "petra") in actions


def test_who_left_is_gone_for_good_with_all_that_they_signed_in_with(
    service: Service, owner: Phylax
) -> None:
    wren = whose(owner, "wren")
    with service.as_("wren") as technician:
        script = technician.people.make_token("script")
        link = owner.people.make_link(wren.id)
        assert owner.people.leave_for_good(wren.id).left_at is not None
        with pytest.raises(NotSignedInError):
            technician.people.me()
    assert welcome(service, link.secret).status_code == 403
    for refused in (
        lambda: owner.people.set_activity(wren.id, True),
        lambda: owner.people.make_link(wren.id),
        lambda: owner.people.set_role(wren.id, Role.OWNER),
    ):
        with pytest.raises(RefusedError, match="left for good"):
            refused()
    with Phylax(service.url, script.token) as program, pytest.raises(NotSignedInError):
        program.people.me()
    with pytest.raises(RefusedError, match="needs an owner"):
        owner.people.leave_for_good(owner.people.me().id)


def test_on_the_services_own_machine_the_last_owner_is_let_in_again(
    service: Service, owner: Phylax
) -> None:
    begun = owner.people.begin_codes()
    owner.people.confirm_codes(pyotp.parse_uri(begun.address).at(int(service.context.now())))
    secret = let_in(service.context.db.path.parent, "ines")
    assert welcome(service, secret).status_code == 200
    assert sign_in(service.url, "ines", CHOSEN)
    with pytest.raises(SystemExit):
        let_in(service.context.db.path.parent, "nobody")
    with pytest.raises(SystemExit):
        let_in(Path("/nowhere"), "ines")
    assert not Path("/nowhere").exists()


# --- tokens ---------------------------------------------------------------------------------------


def test_a_token_is_good_for_what_it_was_made_for(
    service: Service, owner: Phylax, machine: Machine
) -> None:
    def may(scope: TokenScope) -> dict[str, bool]:
        def allowed(method: str, path: str, body: object = None) -> bool:
            token = owner.people.make_token("t", scope).token
            answer = httpx.request(
                method, f"{service.url}{path}", json=body, timeout=60,
                headers={"Authorization": f"Bearer {token}"},
            )  # fmt: skip
            return answer.status_code not in (401, 403)

        person = {"login": "own", "name": "Own", "role": "owner"}
        return {
            "look": allowed("GET", f"{API}/machines"),
            "note": allowed("POST", f"{API}/records", {"machine_id": machine.id, "text": "x"}),
            "enrol": allowed("POST", f"{API}/machines/{machine.id}/enrolment-code"),
            "owner": allowed("POST", f"{API}/people", person),
            "token": allowed("POST", f"{API}/tokens", {"name": "more", "scope": "work"}),
            "audit": allowed("GET", f"{API}/audit"),
            "metrics": allowed("GET", "/metrics"),
        }

    assert {key for key, is_so in may(TokenScope.READ).items() if is_so} == {
        "look", "audit", "metrics"
    }  # fmt: skip
    assert {key for key, is_so in may(TokenScope.METRICS).items() if is_so} == {"metrics"}
    assert {key for key, is_so in may(TokenScope.ENROL).items() if is_so} == {"look", "enrol"}
    assert {key for key, is_so in may(TokenScope.WORK).items() if is_so} == {
        "look", "note", "enrol", "metrics"
    }  # fmt: skip
    with pytest.raises(RefusedError, match="No program may do everything"):
        owner.people.make_token("t", TokenScope.EVERYTHING)
    with service.as_("petra") as desk, pytest.raises(RefusedError, match="more than you"):
        desk.people.make_token("t", TokenScope.WORK)
    with pytest.raises(ValidationError):
        owner.people.make_token("t", days=10_000)


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("POST", "/tokens", {"name": "more", "scope": "work"}),
        ("DELETE", "/tokens/1", None),
        ("POST", "/me/password", {"present": PASSWORD, "new": "five other plain words here"}),
        ("GET", "/audit", None),
        ("POST", "/me/passkeys/question", None),
        ("POST", "/me/passkeys", {"name": "Phone", "credential": "{}"}),
        ("DELETE", "/me/passkeys/1", None),
        ("POST", "/me/codes", None),
        ("PUT", "/me/codes", {"code": "492039"}),
        ("POST", "/me/codes/removal", {"code": "492039"}),
    ],
)
def test_a_token_to_work_changes_no_way_to_sign_in(
    service: Service, owner: Phylax, method: str, path: str, body: dict | None
) -> None:
    """Whoever has stolen it could else let themselves in for good."""
    headers = {"Authorization": f"Bearer {owner.people.make_token('t', TokenScope.WORK).token}"}
    answer = httpx.request(method, f"{service.url}{API}{path}", json=body, headers=headers)
    assert (answer.status_code, answer.json()["type"]) == (
        403, "urn:phylax:problem:not-this-token"
    )  # fmt: skip


def test_a_token_expires_and_says_when_it_was_used(
    service: Service, owner: Phylax, clock: Clock
) -> None:
    made = owner.people.make_token("till", days=2)
    with Phylax(service.url, made.token) as program:
        assert program.people.me().login == "ines"
        (listed,) = [token for token in owner.people.tokens() if token.id == made.id]
        assert listed.used_at == clock.now and listed.scope is TokenScope.READ
        clock.pass_(timedelta(days=2, seconds=1))
        with pytest.raises(NotSignedInError):
            program.people.me()


def test_a_sign_in_on_a_command_line_lasts_as_long_as_it_is_used(
    service: Service, clock: Clock
) -> None:
    with Phylax(service.url, sign_in(service.url, "wren", PASSWORD)) as technician:
        for _ in range(4):
            clock.pass_(timedelta(days=40))
            assert technician.people.me().login == "wren"
        clock.pass_(timedelta(days=61))
        with pytest.raises(NotSignedInError):
            technician.people.me()


def test_tokens_of_somebody_who_may_sign_in_again_do_not_live_again(
    service: Service, owner: Phylax
) -> None:
    wren = whose(owner, "wren")
    with service.as_("wren") as technician:
        owner.people.set_activity(wren.id, False)
        owner.people.set_activity(wren.id, True)
        with pytest.raises(NotSignedInError):
            technician.people.me()
    assert sign_in(service.url, "wren", PASSWORD)


# --- sign-ins -------------------------------------------------------------------------------------


def test_sign_ins_are_listed_ended_and_in_the_audit(service: Service, owner: Phylax) -> None:
    body = {"login": "ines", "password": PASSWORD}
    headers = {"Origin": service.url, "User-Agent": "Browser\x1b[31m of the desk"}
    with (
        httpx.Client(base_url=service.url, headers=headers | {"User-Agent": "One"}) as one,
        httpx.Client(base_url=service.url, headers=headers | {"User-Agent": "Two"}) as two,
    ):
        for browser in (one, two):
            assert browser.post(f"{API}/sign-in", json=body).status_code == 200
        listed = one.get(f"{API}/me/sign-ins").json()
        assert [(s["browser"], s["is_this"]) for s in listed] == [("Two", False), ("One", True)]
        assert one.delete(f"{API}/me/sign-ins/{listed[0]['id']}").status_code == 204
        assert two.get(f"{API}/me").status_code == 401
        assert one.delete(f"{API}/me/sign-ins/9999").status_code == 404
        assert one.delete(f"{API}/me/sign-ins").status_code == 204
        assert one.get(f"{API}/me").status_code == 401
    with pytest.raises(NotSignedInError):
        owner.people.me()
    with pytest.raises(NotSignedInError):
        sign_in(service.url, "ines", "wrong")
    with service.as_("ines") as again:
        actions = [(action.action, action.subject) for action in again.people.audit()]
    assert ("sign in", "ines from 127.0.0.1") in actions
    assert ("sign-in failed", "ines from 127.0.0.1") in actions


@pytest.mark.parametrize("ended", ["withdrawn", "signed out", "left"])
def test_who_watches_hears_no_more_when_what_they_asked_with_ends(
    service: Service, owner: Phylax, machine: Machine, ended: str
) -> None:
    with service.as_("wren") as technician:
        made = technician.people.make_token("watcher")
        headers = {"Authorization": f"Bearer {made.token}"}
        with httpx.stream("GET", f"{service.url}{API}/events", headers=headers, timeout=60) as feed:
            lines = feed.iter_lines()
            assert "watching" in next(lines)
            if ended == "withdrawn":
                technician.people.withdraw_token(made.id)
            elif ended == "signed out":
                technician.people.sign_out_everywhere()
            else:
                owner.people.leave_for_good(whose(owner, "wren").id)
            owner.records.add_note(machine.id, "Not for them.")
            rest = list(lines)
    assert not [line for line in rest if line.startswith("data:")], rest


# --- a second step --------------------------------------------------------------------------------


def test_a_code_is_needed_as_well_and_counts_once(
    service: Service, owner: Phylax, clock: Clock
) -> None:
    begun = owner.people.begin_codes()
    assert begun.picture.startswith("<?xml") and sign_in(service.url, "ines", PASSWORD)
    codes = pyotp.parse_uri(begun.address)
    assert isinstance(codes, pyotp.TOTP)
    with pytest.raises(RefusedError, match="not the code of now"):
        owner.people.confirm_codes("000000")
    owner.people.confirm_codes(codes.at(clock.now))
    assert owner.people.me().needs_code
    with pytest.raises(NotSignedInError, match="code of your app"):
        sign_in(service.url, "ines", PASSWORD)
    with pytest.raises(NotSignedInError, match="used before"):
        sign_in(service.url, "ines", PASSWORD, codes.at(clock.now))
    with pytest.raises(NotSignedInError, match="Login or password"):
        sign_in(service.url, "ines", "wrong", codes.at(clock.now))
    clock.pass_(timedelta(seconds=40))
    code = codes.at(clock.now)
    assert sign_in(service.url, "ines", PASSWORD, f" {code[:3]} {code[3:]} ")
    clock.pass_(timedelta(seconds=40))
    owner.people.remove_codes(codes.at(clock.now))
    assert sign_in(service.url, "ines", PASSWORD)


def test_codes_are_guessed_no_faster_than_passwords(
    service: Service, owner: Phylax, clock: Clock
) -> None:
    begun = owner.people.begin_codes()
    owner.people.confirm_codes(pyotp.parse_uri(begun.address).at(clock.now))
    refused = []
    for number in range(6):
        with pytest.raises(RefusedError) as error:
            sign_in(service.url, "ines", PASSWORD, f"{number:06}")
        refused.append(error.value.status)
    assert refused == [401] * 4 + [429] * 2


def test_the_owner_takes_codes_off_who_lost_them(
    service: Service, owner: Phylax, clock: Clock
) -> None:
    with service.as_("wren") as technician:
        begun = technician.people.begin_codes()
        technician.people.confirm_codes(pyotp.parse_uri(begun.address).at(clock.now))
        with pytest.raises(NotAllowedError):
            technician.people.take_codes_off(technician.people.me().id)
    owner.people.take_codes_off(whose(owner, "wren").id)
    assert sign_in(service.url, "wren", PASSWORD)


def test_where_the_shop_wants_codes_whoever_has_none_sets_them_up_first(
    service: Service, owner: Phylax, clock: Clock
) -> None:
    with pytest.raises(RefusedError, match="your own codes or a passkey first"):
        owner.people.set_codes_for(CodesFor.EVERYBODY)
    begun = owner.people.begin_codes()
    owner.people.confirm_codes(pyotp.parse_uri(begun.address).at(clock.now))
    owner.people.set_codes_for(CodesFor.OWNERS)
    script = owner.people.make_token("script")
    with service.as_("wren") as technician:
        assert technician.machines.list() is not None and list(technician.machines.list()) == []
        owner.people.set_codes_for(CodesFor.EVERYBODY)
        for refused in (lambda: list(technician.machines.list()), technician.people.tokens):
            with pytest.raises(NotAllowedError, match="set yours up first"):
                refused()
        mine = technician.people.begin_codes()
        technician.people.confirm_codes(pyotp.parse_uri(mine.address).at(clock.now))
        assert list(technician.machines.list()) == []
    with Phylax(service.url, script.token) as program:
        assert list(program.machines.list()) == [], "programs have no codes"
    assert owner.people.codes_for() is CodesFor.EVERYBODY

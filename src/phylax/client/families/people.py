"""The shop's people, their sign-ins, the tokens of programs, and the audit."""

from __future__ import annotations

from collections.abc import Sequence

from phylax.client.families.family import Family
from phylax.core.people.accounts import (
    Activity,
    AuditEntry,
    Code,
    CodesBegun,
    CodesFor,
    CodesRule,
    LinkShown,
    NewPassword,
    NewPerson,
    NewRole,
    NewToken,
    Person,
    Role,
    SignedIn,
    Token,
    TokenScope,
    TokenShown,
)
from phylax.core.people.offboarding import Leaving
from phylax.core.record.records import ChainCheck


class People(Family):
    """The shop's people, what they sign in with, and the audit. Most is for the owner; for others
    NotAllowedError.

    Example::

        token = shop.people.make_token("board", TokenScope.METRICS, days=90).token
    """

    def list(self) -> Sequence[Person]:
        """Everybody, also who left."""
        return self._http.get(list[Person], "/people")

    def add(self, new: NewPerson) -> Person:
        """Somebody; without a password they choose one by a link (`make_link`)."""
        return self._http.post(Person, "/people", new)

    def set_activity(self, person_id: int, active: bool) -> Person:
        """Whether a person may sign in; for the owner."""
        path = f"/people/{person_id}/activity"
        return self._http.put(Person, path, Activity(active=active), None)

    def set_role(self, person_id: int, role: Role) -> Person:
        """What a person may do; for the owner."""
        return self._http.put(Person, f"/people/{person_id}/role", NewRole(role=role), None)

    def leave_for_good(self, person_id: int) -> Person:
        """Somebody leaves the shop, for ever; for the owner."""
        return self._http.post(Person, f"/people/{person_id}/leaving")

    def make_link(self, person_id: int) -> LinkShown:
        """By which somebody chooses a password, once; for the owner."""
        return self._http.post(LinkShown, f"/people/{person_id}/link")

    def sign_out(self, person_id: int) -> None:
        """End every sign-in and token of somebody; for the owner."""
        self._http.delete(f"/people/{person_id}/sign-ins")

    def take_codes_off(self, person_id: int) -> None:
        """Of somebody who lost what makes their codes; for the owner."""
        self._http.delete(f"/people/{person_id}/codes")

    def what_leaving_means(self, person_id: int) -> Leaving:
        """What hangs on somebody; of who left, what returning means."""
        return self._http.get(Leaving, f"/people/{person_id}/leaving")

    def bring_back(self, person_id: int) -> Person:
        """Who left is of the shop again; a link lets them choose a password."""
        return self._http.post(Person, f"/people/{person_id}/return")

    def me(self) -> Person:
        """Oneself."""
        return self._http.get(Person, "/me")

    def change_password(self, present: str, new: str) -> None:
        """One's own."""
        self._http.send("POST", "/me/password", body=NewPassword(present=present, new=new))

    def begin_codes(self) -> CodesBegun:
        """A second step for oneself; it counts once `confirm_codes` was given a code of it."""
        return self._http.post(CodesBegun, "/me/codes")

    def confirm_codes(self, code: str) -> None:
        """A code of the new second step: it counts from now on."""
        self._http.send("PUT", "/me/codes", body=Code(code=code))

    def remove_codes(self, code: str) -> None:
        """Sign in without codes again."""
        self._http.send("POST", "/me/codes/removal", body=Code(code=code))

    def codes_for(self) -> CodesFor:
        """Who has to sign in with a code as well."""
        return self._http.get(CodesRule, "/codes-rule").codes_for

    def set_codes_for(self, whom: CodesFor) -> None:
        """For the owner, who has codes already."""
        self._http.put(CodesRule, "/codes-rule", CodesRule(codes_for=whom), None)

    def sign_ins(self) -> Sequence[SignedIn]:
        """The browsers in which one is signed in."""
        return self._http.get(list[SignedIn], "/me/sign-ins")

    def end_sign_in(self, sign_in_id: int) -> None:
        """End one of one's own sign-ins."""
        self._http.delete(f"/me/sign-ins/{sign_in_id}")

    def sign_out_everywhere(self) -> None:
        """End every sign-in and token of oneself, this one too."""
        self._http.delete("/me/sign-ins")

    def tokens(self) -> Sequence[Token]:
        """The tokens of programs; their secrets are kept nowhere."""
        return self._http.get(list[Token], "/tokens")

    def make_token(
        self, name: str, scope: TokenScope = TokenScope.READ, *, days: int = 365
    ) -> TokenShown:
        """For a program; for what it is good, and for how many days."""
        return self._http.post(TokenShown, "/tokens", NewToken(name=name, scope=scope, days=days))

    def withdraw_token(self, token_id: int) -> None:
        """It is good for nothing any more."""
        self._http.delete(f"/tokens/{token_id}")

    def verify_audit(self) -> ChainCheck:
        """Follow the chain of actions; for the owner."""
        return self._http.get(ChainCheck, "/audit/verification")

    def audit(self, *, most: int = 100) -> Sequence[AuditEntry]:
        """The newest actions."""
        return self._http.first(AuditEntry, "/audit", most)

# Written by tools/aio.py from client/families/people.py; change that one.
# ruff: noqa
"""The shop's people, their sign-ins, the tokens of programs, and the audit."""

from __future__ import annotations
from collections.abc import Sequence
from phylax.client.aio.family import Family
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

    async def list(self) -> Sequence[Person]:
        """Everybody, also who left."""
        return await self._http.get(list[Person], "/people")

    async def add(self, new: NewPerson) -> Person:
        """Somebody; without a password they choose one by a link (`make_link`)."""
        return await self._http.post(Person, "/people", new)

    async def set_activity(self, person_id: int, active: bool) -> Person:
        """Whether a person may sign in; for the owner."""
        path = f"/people/{person_id}/activity"
        return await self._http.put(Person, path, Activity(active=active), None)

    async def set_role(self, person_id: int, role: Role) -> Person:
        """What a person may do; for the owner."""
        return await self._http.put(Person, f"/people/{person_id}/role", NewRole(role=role), None)

    async def leave_for_good(self, person_id: int) -> Person:
        """Somebody leaves the shop, for ever; for the owner."""
        return await self._http.post(Person, f"/people/{person_id}/leaving")

    async def make_link(self, person_id: int) -> LinkShown:
        """By which somebody chooses a password, once; for the owner."""
        return await self._http.post(LinkShown, f"/people/{person_id}/link")

    async def sign_out(self, person_id: int) -> None:
        """End every sign-in and token of somebody; for the owner."""
        await self._http.delete(f"/people/{person_id}/sign-ins")

    async def take_codes_off(self, person_id: int) -> None:
        """Of somebody who lost what makes their codes; for the owner."""
        await self._http.delete(f"/people/{person_id}/codes")

    async def what_leaving_means(self, person_id: int) -> Leaving:
        """What hangs on somebody; of who left, what returning means."""
        return await self._http.get(Leaving, f"/people/{person_id}/leaving")

    async def bring_back(self, person_id: int) -> Person:
        """Who left is of the shop again; a link lets them choose a password."""
        return await self._http.post(Person, f"/people/{person_id}/return")

    async def me(self) -> Person:
        """Oneself."""
        return await self._http.get(Person, "/me")

    async def change_password(self, present: str, new: str) -> None:
        """One's own."""
        await self._http.send("POST", "/me/password", body=NewPassword(present=present, new=new))

    async def begin_codes(self) -> CodesBegun:
        """A second step for oneself; it counts once `confirm_codes` was given a code of it."""
        return await self._http.post(CodesBegun, "/me/codes")

    async def confirm_codes(self, code: str) -> None:
        """A code of the new second step: it counts from now on."""
        await self._http.send("PUT", "/me/codes", body=Code(code=code))

    async def remove_codes(self, code: str) -> None:
        """Sign in without codes again."""
        await self._http.send("POST", "/me/codes/removal", body=Code(code=code))

    async def codes_for(self) -> CodesFor:
        """Who has to sign in with a code as well."""
        return (await self._http.get(CodesRule, "/codes-rule")).codes_for

    async def set_codes_for(self, whom: CodesFor) -> None:
        """For the owner, who has codes already."""
        await self._http.put(CodesRule, "/codes-rule", CodesRule(codes_for=whom), None)

    async def sign_ins(self) -> Sequence[SignedIn]:
        """The browsers in which one is signed in."""
        return await self._http.get(list[SignedIn], "/me/sign-ins")

    async def end_sign_in(self, sign_in_id: int) -> None:
        """End one of one's own sign-ins."""
        await self._http.delete(f"/me/sign-ins/{sign_in_id}")

    async def sign_out_everywhere(self) -> None:
        """End every sign-in and token of oneself, this one too."""
        await self._http.delete("/me/sign-ins")

    async def tokens(self) -> Sequence[Token]:
        """The tokens of programs; their secrets are kept nowhere."""
        return await self._http.get(list[Token], "/tokens")

    async def make_token(
        self, name: str, scope: TokenScope = TokenScope.READ, *, days: int = 365
    ) -> TokenShown:
        """For a program; for what it is good, and for how many days."""
        return await self._http.post(
            TokenShown, "/tokens", NewToken(name=name, scope=scope, days=days)
        )

    async def withdraw_token(self, token_id: int) -> None:
        """It is good for nothing any more."""
        await self._http.delete(f"/tokens/{token_id}")

    async def verify_audit(self) -> ChainCheck:
        """Follow the chain of actions; for the owner."""
        return await self._http.get(ChainCheck, "/audit/verification")

    async def audit(self, *, most: int = 100) -> Sequence[AuditEntry]:
        """The newest actions."""
        return await self._http.first(AuditEntry, "/audit", most)

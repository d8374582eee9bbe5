# Written by tools/aio.py from client/families/watching.py; change that one.
# ruff: noqa
"""Keeping watch: what needs a person, trends over the shop, notices and where they go."""

from __future__ import annotations
from collections.abc import AsyncIterator, Sequence
from datetime import datetime
from phylax.client.aio.family import Family
from phylax.core.attention import Attention, AttentionEdit, Handling
from phylax.core.attention.notices import (
    Hook,
    HookEdit,
    HookShown,
    MailServer,
    MailServerEdit,
    Notice,
    NoticeState,
    Wishes,
    WishesEdit,
)
from phylax.core.trends.shop import ShopTrends, VolumeProspect

_HOOKS: type[list[Hook]] = list[Hook]


class Attentions(Family):
    """What needs a person. NotFoundError where it was settled or is not there any more.

    Example::

        for item in shop.attention.list():
            print(item.machine_tag, item.reason, item.next_step)
    """

    async def list(
        self, *, machine_id: int | None = None, also_handled: bool = False
    ) -> Sequence[Attention]:
        """What needs a person, most urgent first; or also what was put off or settled."""
        return await self._http.get(
            list[Attention], "/attention", machine_id=machine_id, all=also_handled
        )

    async def get(self, attention_id: int) -> Attention:
        """One, by its number. NotFoundError."""
        return await self._http.get(Attention, f"/attention/{attention_id}")

    async def take_on(self, item: Attention) -> Attention:
        """I look after it; ChangedMeanwhileError where somebody was faster."""
        return await self._handle(item, AttentionEdit(handling=Handling.TAKEN))

    async def give_back(self, item: Attention) -> Attention:
        """Whoever took it does not see to it any more."""
        return await self._handle(item, AttentionEdit(handling=Handling.OPEN))

    async def put_off(self, item: Attention, until: datetime) -> Attention:
        """It stays away until then, or until it gets worse."""
        return await self._handle(
            item, AttentionEdit(handling=Handling.PUT_OFF, snooze_until=until)
        )

    async def settle(self, item: Attention, comment: str) -> Attention:
        """It is done with, and stays away until it gets worse; the word goes into the record."""
        return await self._handle(item, AttentionEdit(handling=Handling.SETTLED, comment=comment))

    async def _handle(self, item: Attention, edit: AttentionEdit) -> Attention:
        return await self._http.put(Attention, f"/attention/{item.id}", edit, item.version)


class Trends(Family):
    """Free space over the whole shop, and what may come of it.

    Example::

        for volume in shop.trends.volumes(days=60):
            print(volume.machine_tag, volume.mount)
    """

    async def shop(self) -> ShopTrends:
        """Which volumes will be over, what was freed, what changes brought."""
        return await self._http.get(ShopTrends, "/trends")

    async def volumes(self, *, days: int = 730, most: int = 1000) -> Sequence[VolumeProspect]:
        """Volumes that are over their threshold, or will be within so many days."""
        return await self._http.get(list[VolumeProspect], "/trends/volumes", days=days, limit=most)


class Notices(Family):
    """What people are told by mail.

    Example::

        mine = shop.notices.wishes(shop.people.me().id)
    """

    def list(self, *, state: NoticeState | None = None) -> AsyncIterator[Notice]:
        """Every message with its fate, newest first."""
        return self._http.pages(Notice, "/notices", state=state)

    async def again(self, notice_id: int) -> Notice:
        """Send again what was given up."""
        return await self._http.post(Notice, f"/notices/{notice_id}/again")

    async def wishes(self, person_id: int) -> Wishes:
        """What somebody is told, and when."""
        return await self._http.get(Wishes, f"/people/{person_id}/notices")

    async def set_wishes(self, wishes: Wishes, edit: WishesEdit) -> Wishes:
        """Change what somebody is told; ChangedMeanwhileError."""
        path = f"/people/{wishes.person_id}/notices"
        return await self._http.put(Wishes, path, edit, wishes.version)

    async def send_trial(self, person_id: int) -> None:
        """Send a mail to see whether it comes."""
        await self._http.send("POST", f"/people/{person_id}/notices/trial")

    async def mail_server(self) -> MailServer:
        """NotFoundError where none is set."""
        return await self._http.get(MailServer, "/mail-server")

    async def set_mail_server(self, edit: MailServerEdit, before: MailServer | None) -> MailServer:
        """The server that mail goes out by; for the owner."""
        version = before.version if before else None
        return await self._http.put(MailServer, "/mail-server", edit, version)


class Hooks(Family):
    """Programs that are told of what needs a person, by signed requests (RFC 9421); for the owner.

    Example::

        for hook in shop.hooks.list():
            print(hook.name)
    """

    async def list(self) -> Sequence[Hook]:
        """All hooks."""
        return await self._http.get(_HOOKS, "/hooks")

    async def add(self, edit: HookEdit) -> HookShown:
        """The key of its signatures is in the answer, this once."""
        return await self._http.post(HookShown, "/hooks", edit)

    async def withdraw(self, hook_id: int) -> None:
        """It is told nothing more."""
        await self._http.delete(f"/hooks/{hook_id}")

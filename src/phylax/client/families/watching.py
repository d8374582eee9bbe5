"""Keeping watch: what needs a person, trends over the shop, notices and where they go."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from phylax.client.families.family import Family
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

    def list(
        self, *, machine_id: int | None = None, also_handled: bool = False
    ) -> Sequence[Attention]:
        """What needs a person, most urgent first; or also what was put off or settled."""
        return self._http.get(
            list[Attention], "/attention", machine_id=machine_id, all=also_handled
        )

    def get(self, attention_id: int) -> Attention:
        """One, by its number. NotFoundError."""
        return self._http.get(Attention, f"/attention/{attention_id}")

    def take_on(self, item: Attention) -> Attention:
        """I look after it; ChangedMeanwhileError where somebody was faster."""
        return self._handle(item, AttentionEdit(handling=Handling.TAKEN))

    def give_back(self, item: Attention) -> Attention:
        """Whoever took it does not see to it any more."""
        return self._handle(item, AttentionEdit(handling=Handling.OPEN))

    def put_off(self, item: Attention, until: datetime) -> Attention:
        """It stays away until then, or until it gets worse."""
        return self._handle(item, AttentionEdit(handling=Handling.PUT_OFF, snooze_until=until))

    def settle(self, item: Attention, comment: str) -> Attention:
        """It is done with, and stays away until it gets worse; the word goes into the record."""
        return self._handle(item, AttentionEdit(handling=Handling.SETTLED, comment=comment))

    def _handle(self, item: Attention, edit: AttentionEdit) -> Attention:
        return self._http.put(Attention, f"/attention/{item.id}", edit, item.version)


class Trends(Family):
    """Free space over the whole shop, and what may come of it.

    Example::

        for volume in shop.trends.volumes(days=60):
            print(volume.machine_tag, volume.mount)
    """

    def shop(self) -> ShopTrends:
        """Which volumes will be over, what was freed, what changes brought."""
        return self._http.get(ShopTrends, "/trends")

    def volumes(self, *, days: int = 730, most: int = 1000) -> Sequence[VolumeProspect]:
        """Volumes that are over their threshold, or will be within so many days."""
        return self._http.get(list[VolumeProspect], "/trends/volumes", days=days, limit=most)


class Notices(Family):
    """What people are told by mail.

    Example::

        mine = shop.notices.wishes(shop.people.me().id)
    """

    def list(self, *, state: NoticeState | None = None) -> Iterator[Notice]:
        """Every message with its fate, newest first."""
        return self._http.pages(Notice, "/notices", state=state)

    def again(self, notice_id: int) -> Notice:
        """Send again what was given up."""
        return self._http.post(Notice, f"/notices/{notice_id}/again")

    def wishes(self, person_id: int) -> Wishes:
        """What somebody is told, and when."""
        return self._http.get(Wishes, f"/people/{person_id}/notices")

    def set_wishes(self, wishes: Wishes, edit: WishesEdit) -> Wishes:
        """Change what somebody is told; ChangedMeanwhileError."""
        path = f"/people/{wishes.person_id}/notices"
        return self._http.put(Wishes, path, edit, wishes.version)

    def send_trial(self, person_id: int) -> None:
        """Send a mail to see whether it comes."""
        self._http.send("POST", f"/people/{person_id}/notices/trial")

    def mail_server(self) -> MailServer:
        """NotFoundError where none is set."""
        return self._http.get(MailServer, "/mail-server")

    def set_mail_server(self, edit: MailServerEdit, before: MailServer | None) -> MailServer:
        """The server that mail goes out by; for the owner."""
        version = before.version if before else None
        return self._http.put(MailServer, "/mail-server", edit, version)


class Hooks(Family):
    """Programs that are told of what needs a person, by signed requests (RFC 9421); for the owner.

    Example::

        for hook in shop.hooks.list():
            print(hook.name)
    """

    def list(self) -> Sequence[Hook]:
        """All hooks."""
        return self._http.get(_HOOKS, "/hooks")

    def add(self, edit: HookEdit) -> HookShown:
        """The key of its signatures is in the answer, this once."""
        return self._http.post(HookShown, "/hooks", edit)

    def withdraw(self, hook_id: int) -> None:
        """It is told nothing more."""
        self._http.delete(f"/hooks/{hook_id}")

# Written by tools/aio.py from client/families/planning.py; change that one.
# ruff: noqa
"""What recurs, as a program sees it: routines, rounds, the agenda, closing days, calendars."""

from __future__ import annotations
from collections.abc import AsyncIterator, Sequence
from datetime import datetime
from phylax.client.aio.family import Family
from phylax.core.clients.shop import ClosingDays, ClosingDaysEdit
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.retention.consents import NewApproval, PickedListing, Via, WaitingListing
from phylax.core.runs.runs import NewRoutineRuns, Run, RunsMade
from phylax.core.scheduling.agenda import Agenda
from phylax.core.scheduling.calendars import Feed, FeedEdit, FeedShown
from phylax.core.scheduling.presence import Presence
from phylax.core.scheduling.rounds import (
    Habit,
    Postponed,
    Round,
    RoundEdit,
    RoundMachine,
    RoundPreview,
)
from phylax.core.scheduling.routines import Routine, RoutineEdit


class Routines(Family):
    """Lists of steps that are done together.

    Example::

        for routine in shop.routines.list():
            print(routine.name, len(routine.steps))
    """

    def list(self) -> AsyncIterator[Routine]:
        """Those that are offered."""
        return self._http.pages(Routine, "/routines")

    async def get(self, routine_id: int, *, version: int | None = None) -> Routine:
        """A routine as it is, or as it was in one version."""
        return await self._http.get(Routine, f"/routines/{routine_id}", version=version)

    async def versions(self, routine_id: int) -> Sequence[Routine]:
        """Newest first."""
        return await self._http.get(list[Routine], f"/routines/{routine_id}/versions")

    async def add(self, edit: RoutineEdit) -> Routine:
        """A wrong order is put right; `put_right` of the answer says how."""
        return await self._http.post(Routine, "/routines", edit)

    async def change(self, routine: Routine, edit: RoutineEdit) -> Routine:
        """A new version of a routine, as it was read; ChangedMeanwhileError."""
        return await self._http.put(Routine, f"/routines/{routine.id}", edit, routine.version)

    async def end(self, routine_id: int) -> None:
        """It is offered no more."""
        await self._http.delete(f"/routines/{routine_id}")

    async def run(
        self,
        routine_id: int,
        machine_ids: Sequence[int],
        *,
        on_bench: bool = False,
        volumes: VolumeChoice = ALL_VOLUMES,
    ) -> Sequence[Run]:
        """Carry a routine out once, on one machine or many, as soon as they call; `volumes` say
        where its steps look and clean."""
        new = NewRoutineRuns(machine_ids=tuple(machine_ids), on_bench=on_bench, volumes=volumes)
        return (await self._http.post(RunsMade, f"/routines/{routine_id}/runs", new)).runs


class Rounds(Family):
    """Work that recurs. A wrong plan is a RefusedError with `errors` by field.

    Example::

        edit = RoundEdit(
            name="Evenings", routine_id=1, recurrence="every Tuesday", at=time(18, 30),
            starts_on=date(2027, 1, 4), client_ids=(office.id,),
        )
        print(shop.rounds.preview(edit).next_dates)
    """

    def list(self) -> AsyncIterator[Round]:
        """Those that recur."""
        return self._http.pages(Round, "/rounds")

    async def get(self, round_id: int) -> Round:
        """One, by number. NotFoundError."""
        return await self._http.get(Round, f"/rounds/{round_id}")

    async def preview(self, edit: RoundEdit) -> RoundPreview:
        """What it would mean: in words, the next five dates, who is seldom on; nothing is saved."""
        return await self._http.post(RoundPreview, "/rounds/preview", edit)

    async def add(self, edit: RoundEdit) -> Round:
        """A new round. RefusedError where it would never run."""
        return await self._http.post(Round, "/rounds", edit)

    async def change(self, round_: Round, edit: RoundEdit) -> Round:
        """Change a round as it was read; ChangedMeanwhileError."""
        return await self._http.put(Round, f"/rounds/{round_.id}", edit, round_.version)

    async def end(self, round_id: int) -> None:
        """It recurs no more; what it did stays in the record."""
        await self._http.delete(f"/rounds/{round_id}")

    async def machines(self, round_id: int) -> Sequence[RoundMachine]:
        """The machines that belong to it now, each with its next time."""
        return await self._http.get(list[RoundMachine], f"/rounds/{round_id}/machines")

    def runs(self, round_id: int) -> AsyncIterator[Run]:
        """What became of its times, newest first."""
        return self._http.pages(Run, f"/rounds/{round_id}/runs")

    async def habits(self, round_id: int) -> Sequence[Habit]:
        """Its machines that are seldom on in its window, and an hour that would do."""
        return await self._http.get(list[Habit], f"/rounds/{round_id}/habits")

    async def presence(self, round_id: int) -> Presence:
        """How many of its machines are usually on, by hour of the week."""
        return await self._http.get(Presence, f"/rounds/{round_id}/presence")

    async def skip(self, round_id: int, machine_id: int, comment: str = "") -> Round:
        """Leave the next time out for one machine."""
        asked = Postponed(machine_id=machine_id, comment=comment)
        return await self._http.post(Round, f"/rounds/{round_id}/postpone", asked)

    async def hold_back(
        self, round_id: int, machine_id: int, until: datetime, comment: str = ""
    ) -> Round:
        """The next time does not come before then for one machine."""
        asked = Postponed(machine_id=machine_id, until=until, comment=comment)
        return await self._http.post(Round, f"/rounds/{round_id}/postpone", asked)

    async def agenda(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        client_id: int | None = None,
    ) -> Agenda:
        """What runs, or ran, where, when and how long; the next week if no span is given."""
        return await self._http.get(
            Agenda,
            "/rounds/agenda",
            since=since and since.isoformat(),
            until=until and until.isoformat(),
            client_id=client_id,
        )


class ClosingDates(Family):
    """Days on which the shop or a client is closed.

    Example::

        days = shop.closing_days.list()
    """

    async def list(self) -> Sequence[ClosingDays]:
        """All that are to come."""
        return await self._http.get(list[ClosingDays], "/closing-days")

    async def add(self, edit: ClosingDaysEdit) -> ClosingDays:
        """Days on which rounds do not run, or run later."""
        return await self._http.post(ClosingDays, "/closing-days", edit)

    async def remove(self, closing_id: int) -> None:
        """Rounds run on these days again."""
        await self._http.delete(f"/closing-days/{closing_id}")


class Calendars(Family):
    """Addresses at which calendars read the rounds (RFC 5545).

    Example::

        feed = shop.calendars.add(FeedEdit(name="All rounds"))
    """

    async def list(self) -> Sequence[Feed]:
        """All addresses; each holds its own key."""
        return await self._http.get(list[Feed], "/calendars")

    async def add(self, edit: FeedEdit) -> FeedShown:
        """A private address; it is shown this once."""
        return await self._http.post(FeedShown, "/calendars", edit)

    async def withdraw(self, feed_id: int) -> None:
        """The address answers no more."""
        await self._http.delete(f"/calendars/{feed_id}")


class WaitingListings(Family):
    """Listings that wait for somebody's yes.

    Example::

        for listing in shop.waiting_listings.list():
            print(listing.machine_tag, listing.category)
    """

    async def list(self) -> Sequence[WaitingListing]:
        """Listings that need approval, largest first."""
        return await self._http.get(list[WaitingListing], "/waiting-listings")

    async def agree(
        self, listings: Sequence[tuple[int, str]], *, via: Via = "api", comment: str = ""
    ) -> Sequence[Run]:
        """Say yes to all that (survey, category) propose; each machine is cleaned of just that."""
        picked = tuple((PickedListing(survey_id=s, category=c) for s, c in listings))
        new = NewApproval(listings=picked, via=via, comment=comment)
        return (await self._http.post(RunsMade, "/waiting-listings/agree", new)).runs

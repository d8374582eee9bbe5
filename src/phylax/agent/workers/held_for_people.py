"""What is held for people: each by a worker with their rights, by the agent's own list.

Batches, folders and times are that list's (`hold.index`); what a worker says of them are sums and
shown names.
"""

from __future__ import annotations

import errno
import logging
import os
import uuid
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from phylax.agent.account.outcomes import NAMED, together
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import GuardRules
from phylax.agent.hold.hold import Hold
from phylax.agent.hold.index import HeldFor, HoldIndex, make_persons_folder
from phylax.agent.machines import HOLD
from phylax.agent.machines.linux.mounts import Mount, mount_over
from phylax.agent.machines.linux.people import Person
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.task import Stopped, Watcher
from phylax.agent.workers import jobs
from phylax.agent.workers.adopter import Adopter
from phylax.agent.workers.channel import WorkerError
from phylax.agent.workers.connection import received
from phylax.agent.workers.former_people import FormerPeople, account_of, is_theirs, owns_home
from phylax.agent.workers.progress import watched
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.catalogue import category
from phylax.core.ground.tally import Tally
from phylax.core.hold.holds import BatchPick, HeldItem
from phylax.core.protocol import (
    CategoryOutcome,
    HeldMessage,
    HeldOrder,
    LeftItem,
    UnheldMessage,
)
from phylax.core.retention import Reason
from phylax.core.survey import SkippedSum

_PAGE = 500
_LAST_NUMBER = 2**50
_log = logging.getLogger("phylax.agent")


class HeldForPeople:
    """What is held for the people of one machine."""

    def __init__(
        self,
        machine: LinuxSystem,
        hold: Hold,
        index: HoldIndex,
        fork_server: ForkServer,
        rules: GuardRules,
        around: Callable[[Person], jobs.Surroundings],
    ) -> None:
        """`around` says what a person's worker needs to know of the machine."""
        self._machine = machine
        self._hold = hold
        self._index = index
        self._fork_server = fork_server
        self._rules = rules
        self._around = around
        self._former = FormerPeople(index)
        self._adopter = Adopter(machine, hold, index, fork_server, around, self.person)

    def begin_batch(
        self,
        person: Person,
        request: jobs.NewBatch,
        task: CleaningPass,
        journal: RunJournal,
        open_batches: dict[str, HeldFor],
    ) -> jobs.Answer:
        """Make the person's hold folder and note a batch. What the worker says of a place only
        chooses among the machine's own mounts."""
        kind = category(request.category) if request.category in task.keys else None
        if kind is None:
            raise WorkerError("it holds what was not asked for")
        try:
            mount = mount_over(os.path.normpath(received(request.place)))
            if not mount.answers:
                raise PermissionError(errno.EPERM, "nothing is held on a volume of this kind")
            self._former.look(person.uid)
            folder = self._folder_for(person, mount)
            name = self._hold.name_of(
                task.run_id, f"{journal.identity} {person.uid}", request.category, mount.path,
                aside=request.aside,
            )  # fmt: skip
            rule = task.rule(request.category)
            held_at = datetime.fromtimestamp(task.now.now, UTC)
            until = request.until_at if request.aside else held_at + kind.held_for(rule)
            entry = HeldFor(
                batch=name,
                uid=person.uid,
                gid=person.gid,
                person=person.name,
                home=person.home,
                folder=folder,
                run_id=task.run_id,
                run=journal.identity,
                category=request.category,
                mount=self._machine.mount_at(mount.path),
                held_at=held_at,
                until_at=until,
                yields_below=rule.hold_yields_below,
                aside=request.aside,
            )
            if self._index.get(name) is None:
                self._hold.with_room(lambda: self._index.put(entry))
        except OSError as error:
            return jobs.Answer(
                ok=False, code=error.errno or errno.EIO, why=error.strerror or str(error)
            )
        open_batches[name] = entry
        return jobs.Answer(folder=folder, name=name)

    def _folder_for(self, person: Person, mount: Mount) -> str:
        """The person's hold folder on a volume; on a volume whose top is their own, it is for their
        worker to make, with their rights."""
        if os.lstat(mount.path).st_uid == person.uid:
            return os.path.join(mount.path, f"{HOLD}-{person.uid}")
        own_name = f"{HOLD}-{self._hold.agent[:12]}"
        return make_persons_folder(mount.path, person.uid, person.gid, own_name)

    def room_at(self, place: str) -> int:
        """Bytes that may still be held on the volume of a place."""
        try:
            mount = self._machine.mount_at(mount_over(os.path.normpath(place)).path)
            volume = next(v for v in self._machine.volumes() if v.mount == mount)
        except (OSError, StopIteration):
            return 0
        most = volume.capacity * self._rules.hold_at_most_percent // 100
        return max(0, most - self._hold.held_on(mount) - self._index.held_on(mount))

    def held_of(self, identity: str, key: str) -> Tally:
        """What a run holds of a category, as people's workers said."""
        tally = Tally()
        for entry in self._index.entries():
            if entry.run == identity and entry.category == key and not entry.aside:
                tally += Tally(count=entry.count, size=entry.size)
        return tally

    def end_pass(self, batches: dict[str, HeldFor], held: Mapping[str, tuple[int, int]]) -> None:
        """A worker is through. Batches for what went at once are over, but for what could not go
        back; of the others it said how much they hold."""
        for name, entry in batches.items():
            count, size = held.get(name, (0, 0))
            if not entry.aside:
                counted = {"count": count, "size": size, "told": False}
                self._index.put(entry.model_copy(update=counted))
            elif name not in held:
                # nothing below a person's folder is asked by root
                self._index.remove(name)

    # --- orders about what is held ---------------------------------------------------------------

    def knows(self, batch: str) -> bool:
        return self._index.get(batch) is not None

    def work(
        self,
        spool: Spool,
        order: HeldOrder,
        journal: RunJournal,
        watch: Watcher,
        did: dict[str, Any],
    ) -> None:
        """Carry out the part of an order that is about people's things; what became of it is added
        to `did`."""
        mine = {entry.batch: entry for entry in self._index.entries()}
        by_person: dict[int, list[BatchPick]] = {}
        for pick in order.picks:
            if pick.batch in mine:
                by_person.setdefault(mine[pick.batch].uid, []).append(pick)
        errors: list[str] = []
        for uid, picks in by_person.items():
            try:
                self._work_of(uid, picks, spool, order, journal, watch, did)
            except WorkerError as error:
                errors.append(f"the worker for {mine[picks[0].batch].person}: {error}")
        if errors:
            did["error"] = "; ".join(errors)

    def _work_of(
        self,
        uid: int,
        picks: list[BatchPick],
        spool: Spool,
        order: HeldOrder,
        journal: RunJournal,
        watch: Watcher,
        did: dict[str, Any],
    ) -> None:
        """Somebody's part of an order about held things. WorkerError where their worker fails."""
        self._former.look(uid)
        person = self.person(uid)
        assert person is not None
        entries = {e.batch: e for e in self._index.entries() if e.uid == uid}
        ordered = [entries[pick.batch] for pick in picks]
        self._leave(
            [entry for entry in ordered if not self._is_connected(entry)],
            Reason.AWAY,
            "it stays held until the volume is connected again",
            did,
        )
        sealed = [entry for entry in ordered if self._is_connected(entry) and entry.sealed]
        if order.kind == "let go":
            sealed = [entry for entry in sealed if not self._let_sealed_go(entry, spool, did)]
        self._leave(
            sealed,
            Reason.FOREIGN,
            "the account it was held for has gone, or its user number is another's now",
            did,
        )
        picks = [
            pick for pick in picks
            if self._is_connected(entries[pick.batch]) and not entries[pick.batch].sealed
        ]  # fmt: skip
        if not picks:
            return
        folders = tuple(dict.fromkeys(entries[pick.batch].folder for pick in picks))
        if not all(pick.batch in journal.present for pick in picks):
            present = self._present(person, folders, picks)
            journal.note_present(journal.present | present)
        stop: list[Stopped] = []
        done: dict[str, Tally] = {}

        def handle(message: jobs.FromWorker) -> jobs.Answer | None:
            match message:
                case jobs.Watched():
                    return watched(message, watch, stop)
                case jobs.UnheldReport():
                    if message.batch not in {pick.batch for pick in picks}:
                        raise WorkerError("it told of a batch that it was not asked about")
                    key = entries[message.batch].category
                    count = sum(last - first + 1 for first, last in message.numbers)
                    size = min(message.size, entries[message.batch].size)
                    done[key] = done.get(key, Tally()) + Tally(count=count, size=size)
                    spool.put(
                        UnheldMessage(
                            id=uuid.uuid4().hex,
                            batch=message.batch,
                            status="put back" if order.kind == "put back" else "gone",
                            at=datetime.now(UTC),
                            numbers=message.numbers,
                        )
                    )
                    return None
            raise WorkerError(f"it said {message.kind!r} where held things are put back")

        job = jobs.HeldJob(
            kind=order.kind,
            around=self._around(person),
            folders=folders,
            picks=tuple(picks),
            if_taken=order.if_taken,
            before={batch: tuple(ranges) for batch, ranges in journal.present.items()},
            moved_homes={
                batch: entry.home
                for batch, entry in entries.items()
                if entry.home != person.home and not owns_home(entry.home, uid)
            },
        )
        report = self._fork_server.work(person, job, handle)
        field = "put_back" if order.kind == "put back" else "removed"
        outcomes = {outcome.category: outcome for outcome in did["outcomes"]}
        for outcome in report.outcomes:
            key = outcome.category
            own = outcome.model_copy(update={field: done.get(key, Tally())})
            outcomes[key] = together(outcomes.get(key), own)
        did["outcomes"] = tuple(outcomes.values())
        did["left"] = (*did["left"], *report.left)[:NAMED]
        if stop:
            did["cancelled"] = True

    def _is_connected(self, entry: HeldFor) -> bool:
        """Whether the volume that a batch lies on is there; what is not there is not gone."""
        try:
            return self._machine.mount_at(mount_over(entry.folder).path) == entry.mount
        except OSError:
            return False

    def _let_sealed_go(self, entry: HeldFor, spool: Spool, did: dict[str, Any]) -> bool:
        """Let a sealed batch go, before its time; whether nothing of it is left."""
        if not self._former.let_go(entry):
            return False
        self._forget(entry, spool, datetime.now(UTC))
        outcomes = {outcome.category: outcome for outcome in did["outcomes"]}
        removed = Tally(count=entry.count, size=entry.size)
        outcome = CategoryOutcome(category=entry.category, removed=removed)
        outcomes[entry.category] = together(outcomes.get(entry.category), outcome)
        did["outcomes"] = tuple(outcomes.values())
        return True

    def _forget(self, entry: HeldFor, spool: Spool, now: datetime) -> None:
        """Nothing is left of a batch."""
        spool.put(
            UnheldMessage(
                id=f"gone-{entry.batch}-{int(entry.held_at.timestamp())}",
                batch=entry.batch,
                status="gone",
                at=now,
                # what was put back is known to be; this is of all others
                numbers=((1, _LAST_NUMBER),),
            )
        )
        self._index.remove(entry.batch)

    def _leave(
        self, entries: Sequence[HeldFor], reason: Reason, detail: str, did: dict[str, Any]
    ) -> None:
        """What cannot be asked about stays held, and is said."""
        outcomes = {outcome.category: outcome for outcome in did["outcomes"]}
        for entry in entries:
            key = entry.category
            stay = SkippedSum(reason=reason, count=entry.count, size=entry.size)
            left = CategoryOutcome(category=key, left=(stay,))
            outcomes[key] = together(outcomes.get(key), left)
            item = LeftItem(
                category=key, place=entry.mount, path="", size=entry.size,
                reason=reason, detail=detail,
            )  # fmt: skip
            did["left"] = (*did["left"], item)[:NAMED]
        did["outcomes"] = tuple(outcomes.values())

    def _present(
        self, person: Person, folders: tuple[str, ...], picks: list[BatchPick]
    ) -> dict[str, list[tuple[int, int]]]:
        present: dict[str, list[tuple[int, int]]] = {pick.batch: [] for pick in picks}

        def handle(message: jobs.FromWorker) -> jobs.Answer | None:
            if isinstance(message, jobs.PresentReport) and message.batch in present:
                present[message.batch] += message.numbers
                return None
            raise WorkerError(f"it said {message.kind!r} when asked what is held")

        around = self._around(person)
        job = jobs.PresentJob(around=around, folders=folders, picks=tuple(picks))
        self._fork_server.work(person, job, handle)
        return present

    # --- its time --------------------------------------------------------------------------------

    def end_what_is_due(self, spool: Spool, now: datetime, check: Callable[[], None]) -> None:
        """Let go what has had its time, or gives way."""
        self._former.look()
        for entry in list(self._index.entries()):
            check()
            short = entry.yields_below and self._hold.is_short(entry.mount, entry.yields_below)
            if entry.aside or not (entry.until_at <= now or short):
                continue
            if not self._is_connected(entry):
                continue
            # on a disk of the person's own nothing is sealed
            is_former = entry.sealed or not is_theirs(entry, account_of(entry.uid))
            if not (self._former.may_go(entry, now) if is_former else self._may_go_back(entry)):
                continue
            if not (self._former.let_go(entry) if entry.sealed else self._let_go(entry)):
                _log.error("held things of %s in %s cannot be let go", entry.person, entry.batch)
                continue
            self._forget(entry, spool, now)

    def _may_go_back(self, entry: HeldFor) -> bool:
        """Whether its person's home is there, so that somebody could have asked for it. A home that
        is away, or not unlocked, is no reason for things to go unseen."""
        person = self.person(entry.uid)
        homes = {entry.home, person.home if person else entry.home}
        return entry.home == f"/nonexistent/{entry.uid}" or any(
            owns_home(home, entry.uid) for home in homes
        )

    def _let_go(self, entry: HeldFor) -> bool:
        """Let a batch go by its person's worker; whether nothing of it is left."""
        person = self.person(entry.uid)
        assert person is not None
        job = jobs.HeldJob(
            kind="let go",
            around=self._around(person),
            folders=(entry.folder,),
            picks=(BatchPick(batch=entry.batch),),
        )
        try:
            report = self._fork_server.work(person, job, lambda message: jobs.Answer())
        except WorkerError as error:
            _log.error("what is held for %s: %s", person.name, error)
            return False
        return not any(outcome.left for outcome in report.outcomes)

    @property
    def is_empty(self) -> bool:
        return next(self._index.entries(), None) is None

    # --- telling, and taking up again ------------------------------------------------------------

    def tell_untold(self, send: Callable[[HeldMessage], None]) -> None:
        """Say what lies in batches that were not told yet, as their person's worker sees it, page
        by page."""
        for entry in list(self._index.entries()):
            if entry.told or entry.aside or entry.sealed or not self._is_connected(entry):
                continue
            person = self.person(entry.uid)
            assert person is not None
            page: list[HeldItem] = []

            def send_page(entry: HeldFor = entry, page: list[HeldItem] = page) -> None:
                if page:
                    send(_held_message(entry, page))
                    page.clear()

            def handle(
                message: jobs.FromWorker,
                entry: HeldFor = entry,
                page: list[HeldItem] = page,
                send_page: Callable[[], None] = send_page,
            ) -> None:
                if not isinstance(message, jobs.HeldReport) or message.batch != entry.batch:
                    raise WorkerError(f"it said {message.kind!r} when asked what is held")
                page += message.items
                if len(page) >= _PAGE:
                    send_page()

            job = jobs.TellJob(
                around=self._around(person), folders=(entry.folder,), batches=(entry.batch,)
            )
            try:
                self._fork_server.work(person, job, handle)
            except WorkerError as error:
                _log.error("what is held for %s is not known: %s", person.name, error)
                continue
            send_page()
            current = self._index.get(entry.batch) or entry
            self._index.put(current.model_copy(update={"told": True}))

    def tell_again(self) -> None:
        """The service may not know of it any more."""
        for entry in self._index.entries():
            if entry.told:
                self._index.put(entry.model_copy(update={"told": False}))

    def settle(self, person: Person, journal: RunJournal, about: dict[str, Any] | None) -> None:
        """After a worker ended in the middle: put back what it had moved aside, and count what is
        held and what is gone of what it was about to remove."""
        gone = self.recover_for(person, about)
        if about is not None and gone is not None:
            journal.count_gone(about, gone)

    def recover_for(
        self, person: Person, about: dict[str, Any] | None = None
    ) -> Sequence[int] | None:
        """Put back what is aside of a person's, and count what is held; which of some names are
        gone. None: it cannot be said, for their worker does not answer."""
        entries = [
            entry for entry in self._index.entries()
            if entry.uid == person.uid and entry.is_open and not entry.sealed
            and self._is_connected(entry)
        ]  # fmt: skip
        if not entries and about is None:
            return ()
        folders = tuple(dict.fromkeys(entry.folder for entry in entries))
        job = jobs.RecoverJob(around=self._around(person), folders=folders, about=about,
            batches=tuple(entry.batch for entry in entries),
        )  # fmt: skip
        try:
            report = self._fork_server.work(person, job, lambda message: None)
        except WorkerError as error:
            _log.error("the worker for %s: %s", person.name, error)
            return None
        for entry in entries:
            # what could not go back waits there as held things do, and ends with its time; what was
            # held when the agent was cut off is counted by what lies there
            count, size = report.held.get(entry.batch, (0, 0))
            if count:
                counted = {"aside": False, "count": count, "size": size, "told": False}
                self._index.put(entry.model_copy(update=counted))
            else:
                self._index.remove(entry.batch)
        return report.gone

    def recover(self) -> None:
        """As the agent starts, or takes up a run."""
        self._adopter.adopt()
        self._former.look()
        for uid in {entry.uid for entry in self._index.entries() if entry.is_open}:
            if (person := self.person(uid)) is not None:
                self.recover_for(person)

    def person(self, uid: int) -> Person | None:
        """Somebody of this machine, also one whose account has gone but for what is held."""
        for person in self._machine.apart():
            if person.uid == uid:
                return person
        for entry in self._index.entries():
            if entry.uid == uid:
                return Person(name=entry.person, uid=uid, gid=entry.gid, home=entry.home)
        return None


def _held_message(entry: HeldFor, page: Sequence[HeldItem]) -> HeldMessage:
    first, last = page[0].number, page[-1].number
    return HeldMessage(
        id=f"held-{entry.batch}-{first}-{last}-{len(page)}",
        run_id=entry.run_id,
        batch=entry.batch,
        category=entry.category,
        mount=entry.mount,
        held_at=entry.held_at,
        expires_at=entry.until_at,
        items=tuple(page),
    )

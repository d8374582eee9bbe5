"""A worker's side: the engine at work with one person's rights, for one job.

It is the same engine that works for a machine as a whole. Only its journal, its hold and its view
of what is open lead back to the agent.
"""

from __future__ import annotations

import os
import socket
import struct
import time
from base64 import b64decode
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing, suppress
from functools import partial
from itertools import islice
from typing import Any

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.reasons import why_left
from phylax.agent.account.run_journal import gone_of
from phylax.agent.cleaning.cleaner import Cleaner
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import Guard, GuardRules
from phylax.agent.hold.batch import Batch, BatchHead, Held
from phylax.agent.hold.hold import Hold
from phylax.agent.machines import InUse
from phylax.agent.machines.linux.person import LinuxPerson
from phylax.agent.survey.arrivals import Arrivals, pages, unpacked
from phylax.agent.survey.places import Place
from phylax.agent.survey.surveyor import survey
from phylax.agent.survey.task import LookListener, LookTask, Stopped
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import LONGEST, receive, send
from phylax.core.catalogue import catalogue
from phylax.core.holds import HeldItem, IfTaken, as_ranges
from phylax.core.protocol import AgreedListing
from phylax.core.retention import Reason
from phylax.core.survey import Item, SurveyLine, Tally, spell
from phylax.core.values import Demand, Value

_PAIR = struct.Struct("<QQ")
_FOLDERS = 10_000
"""In one message."""
_TELL_EVERY, _PAGE = 0.1, 100


def load_all() -> None:
    """Load what is else loaded when it is first needed."""
    import encodings.idna
    import encodings.latin_1  # noqa: F401

    from phylax.core.retention.protection import ProtectEntry, ProtectKind

    catalogue()
    ProtectEntry(kind=ProtectKind.PATTERN, what="*.tif")


def work(end: socket.socket) -> None:
    """Take one job, do it, say what became of it."""
    text = receive(end)
    if text is None:
        return
    job = jobs.JOB.validate_json(text)
    desk = _Desk(end, job.around)
    match job:
        case jobs.LookJob():
            desk.look(job)
        case jobs.CleanJob():
            desk.clean(job)
        case jobs.HeldJob():
            desk.held(job)
        case jobs.PresentJob():
            desk.present(job)
        case jobs.TellJob():
            desk.tell(job)
        case jobs.RecoverJob():
            desk.recover(job)


class _Agent:
    """The agent at the other end."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end
        self._unsaid: dict[str, list[int]] = {}
        self._said = time.monotonic()

    def say(self, message: Value | Demand) -> None:
        send(self._end, message.model_dump_json().encode("utf-8", "replace"))

    def say_items(
        self, message: Callable[[tuple[Any, ...]], Demand], items: tuple[Any, ...]
    ) -> None:
        """Say something of many items, in as many messages as it takes."""
        text = message(items).model_dump_json().encode("utf-8", "replace")
        if len(text) <= LONGEST:
            send(self._end, text)
        elif len(items) > 1:
            middle = len(items) // 2
            self.say_items(message, items[:middle])
            self.say_items(message, items[middle:])

    def say_line(self, line: SurveyLine) -> None:
        """Say a line of a look; where names in it are very long, with fewer of them."""
        while len(line.model_dump_json()) > LONGEST // 2 and (line.largest or line.unread):
            largest, unread = (part[: len(part) // 2] for part in (line.largest, line.unread))
            line = line.model_copy(update={"largest": largest, "unread": unread})
        self.say(jobs.Lines(lines=(line,)))

    def say_report(self, report: jobs.Report) -> None:
        """Say the last word; where it is too long, with fewer names."""
        while len(report.model_dump_json()) > LONGEST // 2 and (report.left or report.again):
            again = tuple(
                listing.model_copy(update={"items": listing.items[: len(listing.items) // 2]})
                for listing in report.again
            )
            left = report.left[: len(report.left) // 2]
            update = {"left": left, "again": again if left else ()}
            report = report.model_copy(update=update)
        self.say(report)

    def ask(self, message: Demand) -> jobs.Answer:
        self.say(message)
        text = receive(self._end)
        if text is None:
            raise Stopped
        return jobs.Answer.model_validate_json(text)

    def watch(self, category: str, items: int, size: int) -> None:
        """So much more is done. Raises Stopped where the agent says so."""
        sums = self._unsaid.setdefault(category, [0, 0])
        sums[0] += items
        sums[1] += size
        now = time.monotonic()
        if now - self._said < _TELL_EVERY:
            return
        self._said = now
        self.flush()

    def flush(self) -> None:
        unsaid, self._unsaid = self._unsaid, {}
        for category, (items, size) in unsaid.items():
            watched = jobs.Watched(category=category, items=items, size=max(size, 0))
            if not self.ask(watched).go_on:
                raise Stopped

    def in_use(self) -> InUse:
        answer = self.ask(jobs.InUseAsked())
        pairs = b64decode(answer.files)
        return InUse(frozenset(_PAIR.iter_unpack(pairs)), frozenset(answer.programs))


class _Journal:
    """The run's journal, which the agent keeps in its own folder."""

    def __init__(self, agent: _Agent, identity: str) -> None:
        self._agent = agent
        self.identity = identity
        self._went: dict[str, list[int]] = {}

    def about_to(
        self,
        category: str,
        place: Place,
        folder: str,
        names: Sequence[tuple[str, int | None]],
        note: tuple[Sequence[str], str] | None = None,
    ) -> None:
        if _is_text("/".join(name for name, _ in names)):
            sent = tuple(names)
        else:
            sent = tuple((_sent(name), size) for name, size in names)
        about = jobs.About(
            category=category,
            root=_sent(place.root),
            folders=tuple(map(_sent, (*place.below, *(folder.split("/") if folder else ())))),
            names=sent,
            note=note and (tuple(map(_sent, note[0])), _sent(note[1])),
        )
        answer = self._agent.ask(about)
        if not answer.ok:
            raise OSError(answer.code, answer.why)

    def removed(self, category: str, size: int, count: int = 1) -> None:
        sums = self._went.setdefault(category, [0, 0])
        sums[0] += count
        sums[1] += size

    def batch_done(self) -> None:
        went, self._went = self._went, {}
        for category, (count, size) in went.items():
            self._agent.say(jobs.Went(category=category, count=count, size=size))

    def removed_of(self, category: str) -> Any:
        raise NotImplementedError("the sums are the agent's")


def _sent(name: str) -> str:
    """A name as it can be sent: bytes that are no UTF-8 in a form that nothing else looks like."""
    return name if _is_text(name) else "\0" + os.fsencode(name).hex()


def _is_text(name: str) -> bool:
    try:
        name.encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def received(name: str) -> str:
    """The name behind what `_sent` made."""
    return os.fsdecode(bytes.fromhex(name[1:])) if name.startswith("\0") else name


class _PersonsHold(Hold):
    """The person's own hold folders, which the agent makes and names."""

    def __init__(
        self,
        machine: LinuxPerson,
        agent: _Agent,
        folders: Sequence[str] = (),
        names: Iterable[str] = (),
    ) -> None:
        super().__init__(machine, "/nonexistent")
        self._link = agent
        self._folders = list(folders)
        self.names = set(names)
        self._room: dict[str, int] = {}
        self._held: dict[str, Tally] = {}
        """By batch that was begun here: counted as it is taken, for there may be very many."""

    def batches(self) -> Iterator[Batch]:
        """Those that the agent named: other agents' lie in the same folder."""
        for batch in super().batches():
            if batch.name in self.names:
                yield batch

    def folders(self) -> list[str]:
        return [folder for folder in self._folders if os.path.isdir(folder)]

    def possible(self) -> list[str]:
        return self._folders

    def begin(self, head: BatchHead, place: Place) -> Batch:
        answer = self._link.ask(
            jobs.BatchAsked(
                category=head.category,
                place=_sent(place.path),
                held_at=head.held_at,
                until_at=head.until_at,
                yields_below=head.yields_below,
                aside=head.aside,
            )
        )
        if not answer.ok:
            raise OSError(answer.code, answer.why)
        if answer.folder not in self._folders:
            self._folders.append(answer.folder)
        self.names.add(answer.name)
        batch = Batch.make(answer.folder, answer.name, head)
        if not head.aside:
            # of a run that was cut off it may hold something already
            before = Tally() if batch.is_empty else batch.tally()
            self._held[answer.name] = before
        return batch

    def tallies(self) -> dict[str, tuple[int, int]]:
        """By batch that is there still: things and bytes that it holds."""
        held = (
            (batch.name, self._held.get(batch.name) or batch.tally()) for batch in self.batches()
        )
        return {name: (tally.count, tally.size) for name, tally in held}

    def room(self, place: Place) -> int:
        if place.mount not in self._room:
            self._room[place.mount] = int(
                self._link.ask(jobs.RoomAsked(place=_sent(place.path))).code
            )
        return self._room[place.mount]

    def took(self, batch: Batch, count: int, size: int) -> None:
        # nobody else holds anything on the machine meanwhile
        if batch.head.mount in self._room:
            self._room[batch.head.mount] -= size
        if batch.name in self._held:
            self._held[batch.name] += Tally(count=count, size=size)


class _Desk:
    """The engine for one person."""

    def __init__(self, end: socket.socket, around: jobs.Surroundings) -> None:
        person = around.person
        self._agent = _Agent(end)
        self._machine = LinuxPerson(
            person.name,
            person.uid,
            person.home,
            around.volumes,
            self._agent.in_use,
            shared=around.shared,
            own_folders=around.allow_folders,
        )
        rules = GuardRules(never_touch=around.never_touch)
        self._guard = Guard(self._machine, around.own, rules)

    def look(self, job: jobs.LookJob) -> None:
        page: list[Item] = []
        listed = [""]
        there: list[str] = []
        arrivals = Arrivals(unpacked(job.known), int(job.now.now) if job.remember else 0)

        def send_page() -> None:
            if page:
                self._agent.say_items(
                    lambda items: jobs.Listed(category=listed[0], items=items), tuple(page)
                )
                page.clear()

        def listing(category: str, item: Item) -> None:
            if category != listed[0] or len(page) == _PAGE:
                send_page()
                listed[0] = category
            page.append(item)

        stopped = False
        try:
            lines = survey(
                self._machine,
                self._guard,
                LookTask(job.look, job.now, job.protect, job.remember),
                LookListener(
                    watch=self._agent.watch,
                    listing=listing,
                    there=lambda entry: there.append(entry.what),
                ),
                arrivals,
            )
            send_page()
            for page_of_folders in pages(arrivals.folders, _FOLDERS):
                self._agent.say(jobs.Folders(packed=page_of_folders))
            for line in lines:
                self._agent.say_line(line)
        except Stopped:
            stopped = True
        self._agent.say(jobs.Report(there=tuple(there), stopped=stopped))

    def clean(self, job: jobs.CleanJob) -> None:
        hold = _PersonsHold(self._machine, self._agent)
        journal: Any = _Journal(self._agent, job.identity)
        task = CleaningPass(
            run_id=job.run_id,
            keys=job.clean,
            rules=job.look,
            now=job.now,
            protect=job.protect,
            standing=job.standing,
            agreed=job.agreed,
        )
        arrivals = Arrivals(unpacked(job.known))
        cleaner = Cleaner(
            self._machine, self._guard, journal, hold, task, self._agent.watch, arrivals
        )
        stopped = False
        try:
            cleaner.go_over()
        except Stopped:
            stopped = True
        self._report(cleaner.outcomes, cleaner.again, hold, job, stopped)

    def _report(
        self,
        outcomes: Outcomes,
        again: dict[str, list[Item]],
        hold: _PersonsHold,
        job: jobs.CleanJob,
        stopped: bool,
    ) -> None:
        with suppress(Stopped):
            self._agent.flush()
        held = hold.tallies()
        self._agent.say_report(
            jobs.Report(
                outcomes=tuple(outcomes.of(key) for key in job.clean),
                left=tuple(outcomes.named),
                again=tuple(
                    AgreedListing(category=key, consent_id=0, items=tuple(items))
                    for key, items in again.items()
                    if items
                ),
                refused={key: outcomes.refused_size(key) for key in job.clean},
                held=held,
                problems=tuple(outcomes.problems),
                stopped=stopped,
            )
        )

    def _tell_held(self, batch: Batch) -> None:
        page: list[HeldItem] = []
        for entry in batch.held():
            shown, _ = spell(entry.path)
            page.append(
                HeldItem(number=entry.number, place=entry.place, path=shown, size=entry.size)
            )
            if len(page) == _PAGE:
                self._agent.say_items(
                    lambda items: jobs.HeldTold(batch=batch.name, items=items), tuple(page)
                )
                page = []
        if page:
            self._agent.say_items(
                lambda items: jobs.HeldTold(batch=batch.name, items=items), tuple(page)
            )

    def tell(self, job: jobs.TellJob) -> None:
        hold = _PersonsHold(self._machine, self._agent, job.folders, job.batches)
        for batch in hold.batches():
            self._tell_held(batch)
        self._agent.say(jobs.Report())

    def held(self, job: jobs.HeldJob) -> None:
        hold = _PersonsHold(self._machine, self._agent, job.folders)
        outcomes = Outcomes()
        stopped = False
        try:
            for pick in job.picks:
                try:
                    batch = hold.batch(pick.batch)
                except (OSError, ValueError):
                    continue
                with closing(batch):
                    try:
                        for entry in batch.announced(pick.numbers):
                            if batch.is_held(entry.number):
                                self._end_one(job, batch, entry, outcomes)
                    finally:
                        before = job.before.get(pick.batch, ())
                        gone = (
                            number
                            for first, last in before
                            for number in range(first, last + 1)
                            if not batch.is_held(number)
                        )
                        self._numbers(jobs.UnheldTold, batch.name, gone)
                    if batch.is_empty:
                        batch.sweep_up()
        except Stopped:
            stopped = True
        keys = {pick.batch.split(".")[1] for pick in job.picks}
        self._agent.say(
            jobs.Report(
                outcomes=tuple(outcomes.of(key) for key in keys),
                left=tuple(outcomes.named),
                stopped=stopped,
            )
        )

    def present(self, job: jobs.PresentJob) -> None:
        hold = _PersonsHold(self._machine, self._agent, job.folders)
        for pick in job.picks:
            with suppress(OSError, ValueError), closing(hold.batch(pick.batch)) as batch:
                held = (n.number for n in batch.announced(pick.numbers) if batch.is_held(n.number))
                self._numbers(jobs.PresentTold, batch.name, held)
        self._agent.say(jobs.Report())

    def _numbers(
        self,
        message: type[jobs.PresentTold] | type[jobs.UnheldTold],
        batch: str,
        numbers: Iterable[int],
    ) -> None:
        ranges = as_ranges(numbers)
        while page := tuple(islice(ranges, 5000)):
            self._agent.say(message(batch=batch, numbers=page))

    def _end_one(self, job: jobs.HeldJob, batch: Batch, entry: Held, outcomes: Outcomes) -> None:
        key = batch.head.category
        leave = partial(outcomes.leave, key, entry.place, entry.path, entry.size)
        try:
            if job.kind == "put back":
                batch.put_back(entry, beside=job.if_taken is IfTaken.BESIDE)
            else:
                whys: list[str] = []
                batch.let_go(entry.number, lambda path, why: whys.append(why))
                if whys:
                    leave(Reason.FAILED, "; ".join(whys[:3]))
        except FileExistsError as error:
            leave(Reason.TAKEN, error.strerror or "")
        except OSError as error:
            reason, detail = why_left(error)
            if reason is Reason.GONE:
                reason, detail = Reason.FAILED, "its folder no longer exists"
            leave(reason, detail)
        self._agent.watch(key, 1, entry.size)

    def recover(self, job: jobs.RecoverJob) -> None:
        hold = _PersonsHold(self._machine, self._agent, job.folders, job.batches)
        hold.recover()
        gone: tuple[int, ...] = ()
        if job.about is not None:
            gone = tuple(gone_of(_as_received(job.about)))
        self._agent.say(jobs.Report(gone=gone, held=hold.tallies()))


def _as_received(about: dict[str, Any]) -> dict[str, Any]:
    """What the agent noted, with names as the system has them."""
    return about | {
        "root": received(about["root"]),
        "folders": [received(name) for name in about["folders"]],
        "names": [(received(name), size) for name, size in about["names"]],
    }

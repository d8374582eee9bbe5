"""A worker's side: the engine at work with one person's rights, for one job.

It is the same engine that works for a machine as a whole. Only its journal, its hold and its view
of what is open lead back to the agent.
"""

from __future__ import annotations

import os
import socket
from collections.abc import Sequence
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
from phylax.agent.files.arrivals import Arrivals, pages, unpacked
from phylax.agent.hold.batch import Batch, Held
from phylax.agent.hold.restore import Within
from phylax.agent.machines.linux.person import LinuxPerson
from phylax.agent.survey.surveyor import survey
from phylax.agent.survey.task import Stopped, SurveyListener, SurveyTask
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import receive
from phylax.agent.workers.connection import AgentConnection, WorkersJournal, received
from phylax.agent.workers.persons_hold import PersonsHold
from phylax.agent.workers.persons_settings import PersonsSettings
from phylax.core.catalogue import catalogue
from phylax.core.ground.values import build_all
from phylax.core.hold.holds import HeldItem, IfTaken, as_ranges
from phylax.core.protocol import AgreedListing
from phylax.core.retention import Reason
from phylax.core.survey import Item, spell

_FOLDERS = 10_000
"""In one message."""
_PAGE = 100


def load_all() -> None:
    """Load what is else loaded when it is first needed."""
    import encodings.idna
    import encodings.latin_1  # noqa: F401

    import phylax.agent.machines.linux.values.persons
    import phylax.agent.survey.web_stores  # noqa: F401
    from phylax.core.retention.protection import ProtectEntry, ProtectKind

    build_all()
    jobs.JOB.rebuild()
    catalogue()
    ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.tif")


def work(end: socket.socket) -> None:
    """Take one job, do it, say what became of it."""
    text = receive(end)
    if text is None:
        return
    job = jobs.JOB.validate_json(text)
    desk = _Desk(end, job.around)
    match job:
        case jobs.SurveyJob():
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
        case jobs.FindJob():
            desk.find(job)
        case _:
            PersonsSettings(desk.machine, desk.agent).work(job)


class _Desk:
    """The engine for one person."""

    def __init__(self, end: socket.socket, around: jobs.Surroundings) -> None:
        person = around.person
        self._around = around
        self.agent = AgentConnection(end)
        self.machine = LinuxPerson(
            person.name,
            person.uid,
            person.home,
            around.volumes,
            self.agent.in_use,
            shared=around.shared,
            own_folders=around.allow_folders,
            root=around.root,
        )
        rules = GuardRules(never_touch=around.never_touch)
        self._guard = Guard(self.machine, around.own, rules)

    def look(self, job: jobs.SurveyJob) -> None:
        page: list[Item] = []
        listed = [""]
        there: list[str] = []
        arrivals = Arrivals(unpacked(job.known), int(job.now.now) if job.remember else 0)

        def send_page() -> None:
            if page:
                self.agent.say_items(
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
                self.machine,
                self._guard,
                SurveyTask(job.look, job.now, job.protect, job.volumes, remember=job.remember),
                SurveyListener(
                    watch=self.agent.watch,
                    listing=listing,
                    there=lambda entry: there.append(entry.pattern),
                ),
                arrivals,
            )
            send_page()
            for page_of_folders in pages(arrivals.folders, _FOLDERS):
                self.agent.say(jobs.Folders(packed=page_of_folders))
            for line in lines:
                self.agent.say_line(line)
        except Stopped:
            stopped = True
        self.agent.say(jobs.Report(there=tuple(there), stopped=stopped))

    def clean(self, job: jobs.CleanJob) -> None:
        hold = PersonsHold(self.machine, self.agent, self._around)
        journal: Any = WorkersJournal(self.agent, job.identity)
        task = CleaningPass(
            run_id=job.run_id,
            keys=job.clean,
            rules=job.look,
            now=job.now,
            protect=job.protect,
            standing=job.standing,
            agreed=job.agreed,
            volumes=job.volumes,
        )
        arrivals = Arrivals(unpacked(job.known))
        cleaner = Cleaner(
            self.machine, self._guard, journal, hold, task, self.agent.watch, arrivals
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
        hold: PersonsHold,
        job: jobs.CleanJob,
        stopped: bool,
    ) -> None:
        with suppress(Stopped):
            self.agent.flush()
        held = hold.tallies()
        self.agent.say_report(
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
                self.agent.say_items(
                    lambda items: jobs.HeldReport(batch=batch.name, items=items), tuple(page)
                )
                page = []
        if page:
            self.agent.say_items(
                lambda items: jobs.HeldReport(batch=batch.name, items=items), tuple(page)
            )

    def tell(self, job: jobs.TellJob) -> None:
        hold = PersonsHold(self.machine, self.agent, self._around, job.folders, job.batches)
        for batch in hold.batches():
            self._tell_held(batch)
        self.agent.say(jobs.Report())

    def held(self, job: jobs.HeldJob) -> None:
        hold = PersonsHold(self.machine, self.agent, self._around, job.folders)
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
                        self._tell_unheld(batch, job.before.get(pick.batch, ()))
                    if batch.is_empty:
                        batch.sweep_up()
        except Stopped:
            stopped = True
        keys = {pick.batch.split(".")[1] for pick in job.picks}
        self.agent.say(
            jobs.Report(
                outcomes=tuple(outcomes.of(key) for key in keys),
                left=tuple(outcomes.named),
                stopped=stopped,
            )
        )

    def present(self, job: jobs.PresentJob) -> None:
        hold = PersonsHold(self.machine, self.agent, self._around, job.folders)
        for pick in job.picks:
            with suppress(OSError, ValueError), closing(hold.batch(pick.batch)) as batch:
                held = (n.number for n in batch.announced(pick.numbers) if batch.is_held(n.number))
                ranges = as_ranges(held)
                while page := tuple(islice(ranges, 5000)):
                    self.agent.say(jobs.PresentReport(batch=batch.name, numbers=page))
        self.agent.say(jobs.Report())

    def _tell_unheld(self, batch: Batch, before: Sequence[tuple[int, int]]) -> None:
        """What of a batch was held when the work began and is not held now."""
        was_held = Within(list(before))
        sizes = {
            entry.number: entry.size
            for entry in batch.announced()
            if was_held(entry.number) and not batch.is_held(entry.number)
        }
        ranges = as_ranges(sizes)
        while page := tuple(islice(ranges, 5000)):
            size = sum(sizes[n] for first, last in page for n in range(first, last + 1))
            self.agent.say(jobs.UnheldReport(batch=batch.name, numbers=page, size=size))

    def _end_one(self, job: jobs.HeldJob, batch: Batch, entry: Held, outcomes: Outcomes) -> None:
        key = batch.head.category
        leave = partial(outcomes.leave, key, entry.place, entry.path, entry.size)
        try:
            if job.kind == "put back":
                if home := job.moved_homes.get(batch.name):
                    entry = entry.moved(home, job.around.person.home)
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
        self.agent.watch(key, 1, entry.size)

    def find(self, job: jobs.FindJob) -> None:
        hold = PersonsHold(self.machine, self.agent, self._around, job.folders)
        for batch in hold.own_batches():
            head = batch.head
            self.agent.say(
                jobs.BatchThere(
                    folder=os.path.dirname(batch.path), batch=batch.name, person=head.person,
                    run=head.run, held_at=head.held_at, until_at=head.until_at,
                    yields_below=head.yields_below, aside=head.aside,
                )
            )  # fmt: skip
        self.agent.say(jobs.Report())

    def recover(self, job: jobs.RecoverJob) -> None:
        hold = PersonsHold(self.machine, self.agent, self._around, job.folders, job.batches)
        hold.recover()
        for batch in hold.batches():
            if batch.is_empty:
                batch.sweep_up()
        gone: tuple[int, ...] = ()
        if job.about is not None:
            gone = tuple(gone_of(_as_received(job.about)))
        self.agent.say(jobs.Report(gone=gone, held=hold.tallies()))


def _as_received(about: dict[str, Any]) -> dict[str, Any]:
    """What the agent noted, with names as the system has them."""
    return about | {
        "root": received(about["root"]),
        "folders": [received(name) for name in about["folders"]],
        "names": [(received(name), size) for name, size in about["names"]],
    }

"""One person's part of a survey and of a cleaning, by a worker with their rights.

What a worker says is checked against what it was asked: categories, batches and volumes are the
agent's own; what is left to believe are sums and shown names of that person.
"""

from __future__ import annotations

import errno
import logging
from collections.abc import Sequence
from typing import Any, Protocol

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.run_journal import JournalError, RunJournal
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.files.arrivals import MOST, KeptArrivals, Key, packed, unpacked
from phylax.agent.hold.index import HeldFor
from phylax.agent.machines import MachineKind
from phylax.agent.machines.linux.people import Person
from phylax.agent.survey.task import Stopped, SurveyListener, SurveyTask, Watcher
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import WorkerError
from phylax.agent.workers.connection import received
from phylax.agent.workers.crew import PassReport
from phylax.agent.workers.held_for_people import HeldForPeople
from phylax.agent.workers.progress import watched
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.catalogue import category
from phylax.core.ground.tally import Tally
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.retention import ProtectEntry, ProtectKind
from phylax.core.survey import AgeDay, SkippedSum, SurveyLine, Unread

_MOST_LISTED, _MOST_LINES = 500_000, 200
_log = logging.getLogger("phylax.agent")


class ForPeople(Protocol):
    """What root does for the workers of people."""

    machine: MachineKind
    fork_server: ForkServer
    arrivals: KeptArrivals
    held_for: HeldForPeople

    def around(self, person: Person) -> jobs.Surroundings: ...

    def in_use_for(self, person: Person) -> jobs.Answer: ...


class PersonWorkerProxy:
    """One person, worked for by a worker with their rights."""

    def __init__(self, crew: ForPeople, person: Person) -> None:
        self.name = person.name
        self._crew = crew
        self._person = person

    def look(self, task: SurveyTask, listener: SurveyListener) -> list[SurveyLine]:
        crew = self._crew
        look = tuple(rule for rule in task.rules if _is_for_people(rule.category))
        if not look:
            return []
        rules = {rule.category: rule.rule for rule in look}
        volumes = {volume.mount: volume for volume in crew.machine.volumes()}
        lines: list[SurveyLine] = []
        stop: list[Stopped] = []
        listed = [0]
        folders: dict[Key, int] = {}

        def handle(message: jobs.FromWorker) -> jobs.Answer | None:
            match message:
                case jobs.Watched():
                    return watched(message, listener.watch, stop)
                case jobs.InUseQuestion():
                    return crew.in_use_for(self._person)
                case jobs.Listed():
                    listed[0] += len(message.items)
                    if listed[0] > _MOST_LISTED:
                        raise WorkerError("it lists more than anybody has")
                    if message.category in rules and category(message.category).keeps_listing:
                        for item in message.items:
                            listener.listing(
                                message.category, item.model_copy(update={"user": self.name})
                            )
                    return None
                case jobs.Folders():
                    try:
                        folders.update(unpacked(message.packed))
                    except ValueError as error:
                        raise WorkerError(f"it sent folders that cannot be: {error}") from error
                    if len(folders) > MOST:
                        raise WorkerError("it remembers more folders than it may")
                    return None
                case jobs.Lines():
                    for line in message.lines:
                        full = len(lines) >= _MOST_LINES
                        known = (
                            line.category in rules
                            and task.volumes.covers(line.mount)
                            and _is_plausible(line, task.protect)
                        )
                        if full or not known:
                            raise WorkerError("it sent lines that cannot be")
                        volume = volumes.get(line.mount)
                        lines.append(
                            line.model_copy(
                                update={
                                    "rule": rules[line.category],
                                    "capacity": volume.capacity if volume else 0,
                                    "free": volume.free if volume else 0,
                                }
                            )
                        )
                    return None
            raise WorkerError(f"it said {message.kind!r} in a survey")

        whose, kept = str(self._person.uid), task.remember and task.now.trusted
        job = jobs.SurveyJob(
            around=crew.around(self._person),
            look=look,
            protect=task.protect,
            now=task.now,
            volumes=task.volumes,
            known=packed(crew.arrivals.known(whose)),
            remember=kept,
        )
        try:
            report = crew.fork_server.work(self._person, job, handle)
        except WorkerError as error:
            if stop:
                raise stop[0] from None
            _log.error("the worker for %s: %s", self.name, error)
            why = str(error)
            return [_not_looked_at(self._person, rules, crew.machine, task.volumes, why)]
        if stop:
            raise stop[0]
        if kept:
            crew.arrivals.keep(whose, folders)
        for entry in task.protect:
            if entry.kind is ProtectKind.FOLDER and entry.pattern in report.there:
                listener.there(entry)
        listener.part(lines)
        return lines

    def clean(self, task: CleaningPass, journal: RunJournal, watch: Watcher) -> PassReport:
        crew, outcomes = self._crew, Outcomes()
        report = PassReport(outcomes)
        keys = tuple(key for key in task.keys if _is_for_people(key))
        if not keys:
            return report
        stop: list[Stopped] = []
        about: list[jobs.About] = []
        open_batches: dict[str, HeldFor] = {}

        def handle(message: jobs.FromWorker) -> jobs.Answer | None:
            match message:
                case jobs.Watched():
                    return watched(message, watch, stop)
                case jobs.InUseQuestion():
                    return crew.in_use_for(self._person)
                case jobs.About():
                    if message.category not in keys:
                        raise WorkerError("it is about to remove what was not asked for")
                    about[:] = [message]
                    text = message.model_dump_json(exclude={"kind"})
                    try:
                        journal.about_claimed(self._person.uid, text)
                    except JournalError as error:
                        return jobs.Answer(ok=False, code=errno.EIO, why=str(error))
                    return jobs.Answer()
                case jobs.Removed():
                    if message.category not in keys:
                        raise WorkerError("it removed what was not asked for")
                    journal.removed(message.category, message.size, message.count)
                    journal.batch_done()
                    about.clear()
                    return None
                case jobs.NewBatch():
                    return crew.held_for.begin_batch(
                        self._person, message, task, journal, open_batches
                    )
                case jobs.RoomQuestion():
                    return jobs.Answer(code=crew.held_for.room_at(received(message.place)))
            raise WorkerError(f"it said {message.kind!r} in a cleaning")

        listings = tuple(
            listing.model_copy(
                update={"items": tuple(item for item in listing.items if item.user == self.name)}
            )
            for listing in task.agreed
        )
        job = jobs.CleanJob(
            around=crew.around(self._person),
            look=task.rules,
            protect=task.protect,
            now=task.now,
            run_id=task.run_id,
            identity=journal.identity,
            clean=keys,
            standing=task.standing,
            agreed=listings,
            volumes=task.volumes,
            known=packed(crew.arrivals.known(str(self._person.uid))),
        )
        try:
            ended = crew.fork_server.work(self._person, job, handle)
        except WorkerError as error:
            _log.error("the worker for %s: %s", self.name, error)
            report.problems.append(f"the places of {self.name} were not gone through: {error}")
            # whatever it was about to do may have been done
            last = about[0].model_dump(mode="json", exclude={"kind"}) if about else None
            crew.held_for.settle(self._person, journal, last)
            report.stopped = stop[0] if stop else None
            return report
        for outcome in ended.outcomes:
            if outcome.category in keys:
                outcomes.absorb(outcome)
        outcomes.name(left for left in ended.left if left.category in keys)
        report.again = {agreed.category: list(agreed.items) for agreed in ended.again}
        report.refused = {key: size for key, size in ended.refused.items() if key in keys}
        report.problems = list(ended.problems)
        crew.held_for.end_pass(open_batches, ended.held)
        if stop:
            report.stopped = stop[0]
        return report


def _is_for_people(key: str) -> bool:
    """Whether a category can lie in somebody's places at all."""
    return category(key).shape != "things"


def _is_plausible(line: SurveyLine, protect: Sequence[ProtectEntry]) -> bool:
    numbers: list[Tally | SkippedSum | AgeDay] = [
        line.total,
        line.removable,
        line.young_by_attributes,
        *line.kept,
        *line.ages,
        *(kept_by.kept for kept_by in line.kept_by),
    ]
    of_list = all(kept_by.entry in protect for kept_by in line.kept_by)
    return of_list and all(0 <= n.count <= 2**62 and 0 <= n.size <= 2**62 for n in numbers)


def _not_looked_at(
    person: Person,
    rules: dict[str, Any],
    machine: MachineKind,
    volumes: VolumeChoice,
    why: str,
) -> SurveyLine:
    """A line that says that somebody's places could not be looked at."""
    key, rule = next(iter(rules.items()))
    mounts = volumes.of(reading.mount for reading in machine.volumes())
    return SurveyLine(
        category=key,
        mount=mounts[0] if mounts else "/",
        rule=rule,
        total=Tally(),
        removable=Tally(),
        digest="00" * 16,
        unread=(Unread(path=person.home, why=f"its worker: {why}"[:300]),),
        unread_count=1,
    )

"""Settings of a Linux machine where the agent is root: the machine's by root, each person's by a
worker with their rights.

What a worker says is believed of that person's own session and of nothing else. One that does not
answer costs only what is its person's.
"""

from __future__ import annotations

import errno
import logging
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

from phylax.agent.machines.linux.people import Person
from phylax.agent.machines.linux.startup.of_person import MOST, OfPerson
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.machines.upkeep import Watch
from phylax.agent.tuning.setting_backend import SettingBackend
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import WorkerError
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.checks.findings import (
    MOST_FINDINGS,
    Checked,
    Finding,
    Severity,
    could_not_look,
    looked,
)
from phylax.core.ground.values import Scalar
from phylax.core.tuning.pieces import Piece, State
from phylax.core.tuning.programs import Program, Switch
from phylax.core.tuning.setting import settings
from phylax.core.tuning.verdicts import Seen

_SILENCE, _LONGEST = 20.0, 60.0
"""Seconds; what is asked here takes a moment."""
_MOST_VALUES = 100
"""Of one person."""
_MOST_PIECES, _LARGEST_CHANGE = 500, 2 * 2**20
"""Of one change; bytes as they are kept."""
_log = logging.getLogger("phylax.agent")


class PeoplesSettings:
    """The machine's own settings, and those of its people."""

    keeps_people_apart = True

    def __init__(self, machine: LinuxSystem, fork_server: ForkServer) -> None:
        self._machine = machine
        self._fork_server = fork_server

    def boot(self) -> str:
        return self._machine.boot()

    def on_battery(self) -> bool | None:
        return self._machine.on_battery()

    def programs(self) -> list[Program]:
        starters: list[OfPerson] = []
        unread: list[Program] = []
        for person in self._machine.with_homes():
            try:
                starters += self._starters(person)
            except WorkerError as error:
                unread.append(_not_read(person, error))
        return [*self._machine.programs_with(starters), *unread]

    def values(self) -> list[Seen]:
        values = self._machine.values()
        for person in self._machine.with_homes():
            try:
                values += self._values(person)
            except WorkerError as error:
                _log.error("settings of %s cannot be read: %s", person.name, error)
        return values

    def switched(self, program: Program, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        pieces = self._machine.switched(program, plan)
        for person in self._machine.with_homes():
            switches = tuple(s for s in plan if s.starter.person == person.name)
            if switches:
                job = jobs.SwitchJob(around=self._around(person), plan=switches)
                pieces += self._pieces(person, job)
        return pieces

    def value_pieces(
        self, setting: str, of: str, value: Scalar, keeps: Sequence[str] = ()
    ) -> tuple[Piece, ...]:
        person = self.person(of)
        if person is None:
            return self._machine.value_pieces(setting, of, value, keeps)
        job = jobs.ValueJob(around=self._around(person), setting=setting, value=value)
        return self._pieces(person, job)

    def hands(self) -> SettingBackend:
        return _PeoplesSettingBackend(self, self._machine.hands())

    def person(self, name: str) -> Person | None:
        """Somebody who has a worker; None for the machine's own, and for who is not there."""
        return next((p for p in self._machine.with_homes() if name and p.name == name), None)

    # --- what a worker is asked ----------------------------------------------------------------

    def _around(self, person: Person) -> jobs.Surroundings:
        return jobs.Surroundings(person=person, volumes=(), root=self._machine.root)

    def _starters(self, person: Person) -> list[OfPerson]:
        starters: list[OfPerson] = []

        def handle(message: jobs.FromWorker) -> None:
            if not isinstance(message, jobs.StartersReport):
                raise WorkerError(f"it said {message.kind!r} when asked what starts")
            starters.extend(message.starters)
            if len(starters) > MOST:
                raise WorkerError("it lists more than anybody has")

        self._work(person, jobs.SettingsJob(around=self._around(person), what="starters"), handle)
        if any(of_person.starter.person != person.name for of_person in starters):
            raise WorkerError("it spoke of somebody else")
        return starters

    def _values(self, person: Person) -> list[Seen]:
        values: list[Seen] = []

        def handle(message: jobs.FromWorker) -> None:
            if not isinstance(message, jobs.ValuesReport):
                raise WorkerError(f"it said {message.kind!r} when asked for settings")
            values.extend(message.values)
            if len(values) > _MOST_VALUES:
                raise WorkerError("it lists more than anybody has")

        self._work(person, jobs.SettingsJob(around=self._around(person), what="values"), handle)
        if any(seen.person != person.name or not _is_of_person(seen) for seen in values):
            raise WorkerError("it spoke of what is not theirs")
        return values

    def browsers(self, watch: Watch) -> Iterator[Checked]:
        """What was added to each person's browsers; one who does not answer costs only theirs."""
        for person in self._machine.with_homes():
            watch()
            started = datetime.now(UTC)
            findings: list[Finding] = []

            def handle(message: jobs.FromWorker, into: list[Finding] = findings) -> None:
                if not isinstance(message, jobs.FindingsReport):
                    raise WorkerError(f"it said {message.kind!r} when asked about browsers")
                into.extend(message.findings)
                if len(into) > MOST_FINDINGS or any(f.severity is Severity.FAILING for f in into):
                    raise WorkerError("it finds more than a browser can have")

            job = jobs.SettingsJob(around=self._around(person), what="browsers")
            try:
                report = self._work(person, job, handle)
            except WorkerError as error:
                why = f"their worker: {error}"
                yield could_not_look("browsers", person.name, started, why)
                continue
            if report.problems:
                yield could_not_look("browsers", person.name, started, report.problems[0])
            else:
                yield looked("browsers", person.name, started, findings)

    def _pieces(self, person: Person, job: jobs.SwitchJob | jobs.ValueJob) -> tuple[Piece, ...]:
        pieces: list[Piece] = []

        def handle(message: jobs.FromWorker) -> None:
            if not isinstance(message, jobs.PiecesReport):
                raise WorkerError(f"it said {message.kind!r} when asked what is altered")
            pieces.extend(message.pieces)
            size = sum(len(piece.model_dump_json()) for piece in pieces)
            # all of it is kept in the agent's own journal
            if len(pieces) > _MOST_PIECES or size > _LARGEST_CHANGE:
                raise WorkerError("it alters more than anybody has to")

        try:
            report = self._work(person, job, handle)
        except WorkerError as error:
            raise _as_os_error(person, error) from error
        if report.problems:
            raise OSError(errno.EIO, report.problems[0])
        if any(piece.of != person.name for piece in pieces):
            raise OSError(errno.EPERM, "their worker spoke of what is not theirs", person.name)
        return tuple(pieces)

    def handle_piece(
        self, person: Person, piece: Piece, do: jobs.Do, state: State | None = None
    ) -> State | None:
        """Have somebody's worker read, write or sweep a piece. OSError where it cannot."""
        states: list[State] = []

        def handle(message: jobs.FromWorker) -> None:
            if not isinstance(message, jobs.StateReport):
                raise WorkerError(f"it said {message.kind!r} when asked about a setting")
            states.append(message.state)
            if len(states) > 1:
                raise WorkerError("it said more than it was asked")

        job = jobs.PieceJob(around=self._around(person), do=do, piece=piece, state=state)
        try:
            report = self._work(person, job, handle)
        except WorkerError as error:
            raise _as_os_error(person, error) from error
        if report.problems:
            raise OSError(report.code or errno.EIO, report.problems[0], piece.shown)
        return states[-1] if states else None

    def _work(self, person: Person, job: jobs.Job, handle: jobs.Handler) -> jobs.Report:
        return self._fork_server.work(person, job, handle, silence=_SILENCE, longest_work=_LONGEST)


class _PeoplesSettingBackend:
    """Reads and writes with the rights of whose it is."""

    def __init__(self, people: PeoplesSettings, own: SettingBackend) -> None:
        self._people = people
        self._own = own

    def read(self, piece: Piece) -> State:
        person = self._people.person(piece.of)
        if person is None:
            return self._own.read(piece)
        state = self._people.handle_piece(person, piece, "read")
        if state is None:
            raise OSError(errno.EIO, "their worker did not say", piece.shown)
        return state

    def write(self, piece: Piece, state: State) -> None:
        person = self._people.person(piece.of)
        if person is None:
            self._own.write(piece, state)
        else:
            self._people.handle_piece(person, piece, "write", state)

    def sweep(self, piece: Piece) -> None:
        person = self._people.person(piece.of)
        if person is None:
            self._own.sweep(piece)
        else:
            self._people.handle_piece(person, piece, "sweep")


def _is_of_person(seen: Seen) -> bool:
    setting = settings().get(seen.key)
    return setting is not None and setting.per_person


def _not_read(person: Person, error: WorkerError) -> Program:
    _log.error("what starts for %s cannot be read: %s", person.name, error)
    return Program(
        key=f"person:{person.name}:"[:500],
        name=f"What starts for {person.name}"[:500],
        unread=f"the worker of {person.name}: {error}"[:500],
    )


def _as_os_error(person: Person, error: WorkerError) -> OSError:
    return OSError(errno.EIO, f"the worker of {person.name}: {error}"[:300])

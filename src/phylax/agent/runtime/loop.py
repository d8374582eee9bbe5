"""The agent's loop: report readings, send what waits, ask for work, do it."""

from __future__ import annotations

import logging
import os
import signal
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType

from phylax.agent.account.run_journal import JournalError, OddJournalError, RunJournal
from phylax.agent.config.guard import Guard, read_rules
from phylax.agent.config.home import AgentHome
from phylax.agent.hold.hold import Hold
from phylax.agent.outbox.sending import Sender
from phylax.agent.outbox.spool import Spool
from phylax.agent.platform.clock import BelievedClock, Clock, OwnClock, to_moment
from phylax.agent.platform.reserve import Reserve
from phylax.agent.runtime.hold_keeper import HoldKeeper
from phylax.agent.runtime.opening import fork_server_for, network_of, open_crew, open_machine
from phylax.agent.runtime.order_runner import OrderRunner
from phylax.agent.runtime.reporter import ShutDown
from phylax.agent.runtime.restore_epoch_keeper import KnownRecords
from phylax.agent.runtime.settings_keeper import SettingsKeeper
from phylax.agent.runtime.sleep import SleepWatch
from phylax.client import (
    AgentLink,
    ForgottenError,
    NotAnOrderError,
    NotSignedInError,
    RefusedError,
    UnreachableError,
)
from phylax.core.protocol import ReadingsMessage

_LONGEST_POLL = 25.0
_LONGEST_PAUSE = 60.0
_END_OF_TIME = datetime(9999, 1, 1, tzinfo=UTC)
_log = logging.getLogger("phylax.agent")


class Agent:
    """One machine's agent."""

    def __init__(self, home: AgentHome) -> None:
        """NotEnrolledError where the folder holds no agent."""
        self._config = home.config()
        rules = read_rules(home.folder)
        # before the key is read: what a worker of a person's is forked from holds no secret
        self._fork_server = fork_server_for(self._config.kind)
        self._machine = open_machine(
            self._config.kind,
            self._config.standin,
            self._config.homes,
            self._config.drives,
            rules.allow_folders,
            apart=self._fork_server is not None,
        )
        self._home = home
        self._clock: Clock = (
            OwnClock() if self._config.kind == "standin" else BelievedClock(home.folder)
        )
        reserve = Reserve(home.folder / "reserve")
        self._spool = Spool(home.spool, reserve)
        self._hold = Hold(
            self._machine,
            os.path.realpath(home.folder),
            at_most_percent=rules.hold_at_most_percent,
            # one of its own: what is held must never cost the result its room
            reserve=Reserve(home.folder / "reserve-hold"),
        )
        self._runs = home.runs
        records = KnownRecords(home.folder, self._spool, lambda: self._crew.tell_again())
        self._link = AgentLink(
            self._config.url,
            home.key(),
            told_time=self._clock.agree,
            told_records=records.hear,
            transport=network_of(self._machine, self._config.url, self._config.certificate),
            # whom an earlier version enrolled goes on: the machine may be far away
            clear=self._config.clear_http is not False,
            certificate=self._config.certificate,
        )
        own = [str(home.folder), *self._hold.possible()]
        guard = Guard(self._machine, own, rules)
        self._crew = open_crew(
            self._machine, guard, self._hold, self._fork_server, home.folder, rules, own
        )
        self._stopping = False
        self._idle = False
        self._next_reading = 0.0
        self._sender = Sender(self._link, self._spool)
        self._order_runner = OrderRunner(
            self._crew, self._sender, self._runs, lambda: self._stopping, reserve, self._clock
        )
        self._sleep_watch = SleepWatch(self._machine)
        self._settings = SettingsKeeper(
            self._machine,
            self._crew.tuned.hands(),
            home.changes,
            home.folder / "starts.json",
            self._spool,
        )
        self._keeper = HoldKeeper(self._hold, self._link, self._spool, self._check, self._crew)

    @property
    def tag(self) -> str:
        return self._config.tag

    def once(self) -> bool:
        """One round trip: finish what was cut off, report, do the work there is.

        Returns whether there was work. UnreachableError or RefusedError where the service is not
        to be had; what could not be sent is kept. BusyError where another agent works here.
        """
        with self._home.alone():
            try:
                return self._once()
            except ForgottenError:
                self._forget()
                return False

    def forget(self) -> bool:
        """Let go of all that is held, and of all that was noted; whether nothing is left. BusyError
        where another agent works here."""
        with self._home.alone():
            return self._forget()

    def _forget(self) -> bool:
        self._crew.recover()
        self._keeper.end_what_is_due(_END_OF_TIME)
        if self._crew.holds_something():
            _log.error("%s: not all that is held can be let go; it is tried again", self.tag)
            return False
        self._home.forget()
        _log.warning("%s: forgotten; this agent is not enrolled any more", self.tag)
        return True

    def _once(self) -> bool:
        self._spool.tidy()
        self._crew.recover()
        self._order_runner.recover_settings()
        worked = self._finish_cut_off()
        self._keep_hold()
        self._take_reading()
        self._settings.tell()
        self._report()
        self._settings.reached()
        while (order := self._link.next_order(0)) is not None:
            worked = True
            self._order_runner.carry_out(order)
            self._keep_hold()
            self._take_reading()
            self._report()
        return worked

    def start(self) -> None:
        """Work until told to stop (SIGTERM, SIGINT). Survives the service being away.

        BusyError where another agent works here.
        """
        with self._home.alone():
            self._start()

    def _start(self) -> None:
        signal.signal(signal.SIGTERM, self._stop)
        signal.signal(signal.SIGINT, self._stop)
        pause = 0.0
        try:
            self._spool.tidy()
            self._crew.recover()
            self._order_runner.recover_settings()
            while not self._stopping:
                try:
                    self._finish_cut_off()
                    self._step()
                    pause = 0.0
                except ForgottenError:
                    if self._forget():
                        return
                    pause = _LONGEST_PAUSE
                except NotSignedInError as error:
                    self._settings.reached()
                    _log.error("%s: %s", self.tag, error)
                    pause = _LONGEST_PAUSE
                except (UnreachableError, RefusedError) as error:
                    if isinstance(error, UnreachableError) and not error.answered:
                        self._settings.not_reached()
                    else:
                        self._settings.reached()
                    pause = min(_LONGEST_PAUSE, max(1.0, pause * 2))
                    _log.warning("%s: %s; next try in %.0f s", self.tag, error, pause)
                except NotAnOrderError as error:
                    _log.error("%s: %s; nothing was done", self.tag, error)
                    pause = _LONGEST_PAUSE
                except (OSError, JournalError):
                    # the agent's own disk refuses: what was begun is taken up again when it works
                    pause = _LONGEST_PAUSE
                    _log.exception("%s: next try in %.0f s", self.tag, pause)
                self._rest(pause)
        except ShutDown:
            return
        finally:
            self.close()

    def close(self) -> None:
        """Let go of the service and of the workers' fork server."""
        self._link.close()
        if self._fork_server is not None:
            self._fork_server.close()

    def _step(self) -> None:
        self._sleep_watch.look()
        if time.monotonic() >= self._next_reading:
            self._keep_hold()
            self._take_reading()
        self._settings.tell()
        self._report()
        self._settings.reached()
        if self._fork_server is not None:
            self._fork_server.rest()
        wait = min(_LONGEST_POLL, max(0.0, self._next_reading - time.monotonic()))
        with self._interruptible():
            order = self._link.next_order(wait)
        if order is not None:
            _log.info("%s: %s, run %s", self.tag, order.kind, order.run_id)
            self._order_runner.carry_out(order)
            self._keep_hold()
            self._take_reading()

    def _report(self) -> None:
        """Tell the service what waits: what is held first, so that whoever reads that a cleaning
        has ended finds there what it held. UnreachableError or RefusedError where it is not to be
        had."""
        try:
            self._keeper.tell()
        finally:
            self._sender.send_spooled()

    def _keep_hold(self) -> None:
        believed = self._clock.believed()
        if believed.may_expire:
            self._keeper.end_what_is_due(to_moment(believed.now))

    def _check(self) -> None:
        if self._stopping:
            raise ShutDown

    def _rest(self, seconds: float) -> None:
        with self._interruptible():
            time.sleep(seconds)

    @contextmanager
    def _interruptible(self) -> Iterator[None]:
        """A stretch of waiting that being told to stop cuts short, also just before it began."""
        self._idle = True
        try:
            if self._stopping:
                raise ShutDown
            yield
        finally:
            self._idle = False

    def _take_reading(self) -> None:
        self._spool.put(
            ReadingsMessage(
                id=uuid.uuid4().hex,
                readings=tuple(self._machine.volumes()),
                awake=self._sleep_watch.told(self._clock.believed().why),
            )
        )
        self._next_reading = time.monotonic() + self._config.readings_every

    def _finish_cut_off(self) -> bool:
        """Take up runs that an earlier stop, or a disk that refused, cut off."""
        paths = sorted(self._runs.glob("*.jsonl")) if self._runs.is_dir() else []
        for path in paths:
            try:
                order = RunJournal.order_in(path)
            except (OddJournalError, OSError) as error:
                # what it knew is lost for the account, not for the client: nothing is done by it
                _log.error("%s; it is put aside", error)
                self._put_aside(path)
                continue
            if order is None:
                path.unlink()
                continue
            _log.info("%s: taking up run %s again", self.tag, order.run_id)
            self._order_runner.carry_out(order)
        return bool(paths)

    def _put_aside(self, path: Path) -> None:
        refused = self._runs / "refused"
        refused.mkdir(exist_ok=True)
        path.replace(refused / path.name)

    def _stop(self, number: int, frame: FrameType | None) -> None:
        self._stopping = True
        if self._idle:
            raise ShutDown

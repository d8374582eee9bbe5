"""A Linux machine with people on a volume of its own, and a root agent with workers for them, that
reaches no service."""

from __future__ import annotations

import ctypes
import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from phylax.agent.account.run_journal import RunJournal
from phylax.agent.config.guard import Guard, GuardRules
from phylax.agent.hold.hold import Hold
from phylax.agent.hold.index import HoldIndex
from phylax.agent.machines.linux.mounts import Mount, mount_over, mount_table
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.outbox.sending import Sender
from phylax.agent.outbox.spool import Spool
from phylax.agent.platform.clock import Clock, OwnClock
from phylax.agent.platform.reserve import Reserve
from phylax.agent.runtime.order_runner import OrderRunner
from phylax.agent.workers.people import CrewWithWorkers
from phylax.agent.workers.supervisor import ForkServer
from phylax.client import AgentLink
from phylax.core.protocol import (
    CategoryRule,
    CleanOrder,
    HeldMessage,
    ListingMessage,
    Order,
    ResultMessage,
    SurveyMessage,
    SurveyOrder,
)
from phylax.core.protocol.trusted_time import Believed
from phylax.core.retention import RuleInForce
from phylax.core.survey import Item, SurveyLine

ANNA, BEN = 3001, 3002
"""User numbers that no account of the machine has."""


@contextmanager
def mounted(kind: str, at: Path, *options: str) -> Iterator[Path]:
    """Something mounted for a while; `kind` is a file system, or 'bind' with what is to be bound
    as the option."""
    at.mkdir(parents=True, exist_ok=True)
    what = ["--bind", options[0]] if kind == "bind" else ["-t", kind, *options, "none"]
    subprocess.run(["mount", *what, str(at)], check=True)
    try:
        yield at
    finally:
        subprocess.run(["umount", "--lazy", str(at)], check=True)


@contextmanager
def silent_mount(at: Path, uid: int) -> Iterator[Path]:
    """A file system of somebody's whose program never answers. OSError where there is no FUSE."""
    at.mkdir(parents=True, exist_ok=True)
    device = os.open("/dev/fuse", os.O_RDWR)
    libc = ctypes.CDLL(None, use_errno=True)
    options = f"fd={device},rootmode=40000,user_id={uid},group_id={uid},allow_other".encode()
    if libc.mount(b"silent", os.fsencode(at), b"fuse.silent", 0, options):
        os.close(device)
        raise OSError(ctypes.get_errno(), "no FUSE here")
    try:
        yield at
    finally:
        # closing its end makes everybody who waits for it go on
        os.close(device)
        subprocess.run(["umount", "--lazy", str(at)], check=True)


def give(path: Path, uid: int, *, below: bool = True) -> Path:
    """Make a path somebody's, with all that is in it."""
    os.chown(path, uid, uid, follow_symlinks=False)
    if below and path.is_dir() and not path.is_symlink():
        for inner in path.rglob("*"):
            os.chown(inner, uid, uid, follow_symlinks=False)
    return path


class OnMemory(LinuxSystem):
    """A machine whose volumes may be file systems in memory."""

    def _mounts(self) -> list[Mount]:
        homes = {mount_over(home).path for home in self._homes}
        return [mount for mount in mount_table() if mount.path in homes]


class SetClock(Clock):
    """A clock that a test sets; ages count by it, whatever time it is."""

    def __init__(self, now: float) -> None:
        self.now = now
        self.trusted = True

    def believed(self) -> Believed:
        return Believed(self.now, self.trusted, self.trusted)


class PeopleDesk:
    """A root agent on a volume with homes below `home/`."""

    def __init__(self, volume: Path, own: Path, fork_server: ForkServer) -> None:
        self.volume = volume
        self.own = own
        own.mkdir(exist_ok=True, mode=0o700)
        self._fork_server = fork_server
        self.system = volume / "system"
        """Where the system's own folders are, if there."""
        self.machine: type[LinuxSystem] = OnMemory
        self.clock: Clock = OwnClock()

    def home(self, name: str, uid: int) -> Path:
        home = self.volume / "home" / name
        home.mkdir(parents=True)
        os.chown(home, uid, uid)
        return home

    def worker(self, **rules: Any) -> OrderRunner:
        guard_rules = GuardRules(**rules)
        homes = [str(home) for home in sorted((self.volume / "home").iterdir())]
        root = str(self.system) if self.system.is_dir() else None
        machine = self.machine(homes, root=root, own_folders=guard_rules.allow_folders)
        hold = Hold(machine, str(self.own), reserve=Reserve(self.own / "reserve-hold"))
        own = [str(self.own), *hold.possible()]
        guard = Guard(machine, own, guard_rules)
        self.spool = spool = Spool(self.own / "spool", Reserve(self.own / "reserve"))
        self.index = HoldIndex(self.own / "held-index")
        self.crew = CrewWithWorkers(
            machine, guard, hold, self._fork_server, self.index, guard_rules, own
        )
        link = AgentLink("http://127.0.0.1:9", "key")
        return OrderRunner(
            self.crew, Sender(link, spool), self.own / "runs", lambda: False, None, self.clock
        )

    def carry_out(self, order: Order, **rules: Any) -> ResultMessage:
        self.worker(**rules).carry_out(order)
        return self.messages(ResultMessage)[-1]

    def take_up(self) -> None:
        """As an agent does when it starts."""
        worker = self.worker()
        self.crew.recover()
        for path in sorted((self.own / "runs").glob("*.jsonl")):
            order = RunJournal.order_in(path)
            if order is not None:
                worker.carry_out(order)

    def look(self, by: dict[str, RuleInForce], run_id: int = 1, **more: Any) -> list[SurveyLine]:
        look = tuple(CategoryRule(category=key, rule=rule) for key, rule in by.items())
        result = self.carry_out(SurveyOrder(run_id=run_id, lease="l", rules=look, **more))
        assert not result.error, result.error
        return list(self.messages(SurveyMessage)[-1].lines)

    def clean(self, by: dict[str, RuleInForce], run_id: int = 2, **more: Any) -> ResultMessage:
        look = tuple(CategoryRule(category=key, rule=rule) for key, rule in by.items())
        order = CleanOrder(
            run_id=run_id, lease="l", rules=look, clean=tuple(by), survey_first=False, **more
        )
        return self.carry_out(order)

    def listing(self) -> list[Item]:
        return [item for page in self.messages(ListingMessage) for item in page.items]

    def tell_held(self) -> list[HeldMessage]:
        """What the service would be told to be held, once."""
        messages: list[HeldMessage] = []
        self.crew.tell_untold(messages.append)
        return messages

    def held_things(self) -> list[str]:
        """What lies in people's hold folders now."""
        return [
            str(path)
            for entry in self.index.entries()
            for path in Path(entry.folder, entry.batch, "things").glob("*/*")
        ]

    def expire(self, *, days: float) -> None:
        """So many days later."""
        self.worker()
        later = datetime.fromtimestamp(self.clock.believed().now, UTC) + timedelta(days=days)
        self.crew.end_what_is_due(self.spool, later, lambda: None)

    def messages(self, kind: type) -> list[Any]:
        return [single.message for single in Spool(self.own / "spool").waiting()
                if isinstance(single.message, kind)]  # fmt: skip

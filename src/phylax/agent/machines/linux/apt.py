"""Updates and programs through Debian's package manager: apt-get(8) decides, dpkg(1) is believed.

What a command ends with proves nothing: what is installed is read back from dpkg's own database.
"""

from __future__ import annotations

import errno
import fcntl
import os
import re
import struct
import sys
import tempfile
import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import IO, Final, NamedTuple

from phylax.agent.machines.linux import package_preconditions
from phylax.agent.machines.linux.packages import SYSTEM_UMASK, Packages
from phylax.agent.machines.linux.tools import ToolOutput, run, start_apart
from phylax.agent.machines.upkeep import Watch
from phylax.core.actions import (
    ActEnd,
    ActionPart,
    InstallUpdates,
    RemoveProgram,
    TryRemoval,
    UnderWay,
)
from phylax.core.inventory.programs import Along, RemovalTried
from phylax.core.inventory.updates import MOST_UPDATES, Update, UpdatesListed

APT_GET: Final = "/usr/bin/apt-get"
APT_CACHE: Final = "/usr/bin/apt-cache"
DPKG: Final = "/usr/bin/dpkg"
_QUIET = {
    # nobody is there to answer a question
    "DEBIAN_FRONTEND": "noninteractive", "DEBCONF_NONINTERACTIVE_SEEN": "true",
    "APT_LISTCHANGES_FRONTEND": "none", "NEEDRESTART_MODE": "l", "UCF_FORCE_CONFFOLD": "1",
}  # fmt: skip
_STEPS = re.compile(
    r"^(Inst|Remv) (\S+)(?: \[([^\]]*)\])?(?: \((\S+) (.*?) \[(\w+)\]\))?", re.MULTILINE
)
_URIS = re.compile(r"^'[^']*' (\S+?)_(\S+?)_[^_\s]+\.deb (\d+)", re.MULTILINE)
_CHROOTLESS = ("--force-not-root", "--force-script-chrootless")
_MOST = 8 * 2**20
_ASK, _FETCH, _HOURS = 120.0, 3600.0, 4 * 3600.0
_WAIT = 600.0
_BUSY = "something else has been installing for ten minutes: let it end, and ask again"


class Planned(NamedTuple):
    """A step that apt would take."""

    does: str
    name: str
    now: str
    version: str
    origin: str


class Apt:
    """The package manager of the system below a root."""

    def __init__(self, root: str = "/") -> None:
        self._root = root.rstrip("/") or "/"
        self._packages = Packages(self._root)
        self._options: list[str] = []
        self._environment = dict(_QUIET)
        if self._root != "/":
            self._options = _elsewhere(self._root)
            self._settings = _own_settings(self._root)
            self._environment["APT_CONFIG"] = self._settings.name

    # --- updates ---------------------------------------------------------------------------------

    def updates(self, watch: Watch) -> UpdatesListed:
        """What could be newer, by the lists as they are now. OSError where there is no apt."""
        at = datetime.now(UTC)
        said = self._ask(
            [APT_GET, "-q", "-o", "APT::Update::Error-Mode=any", "update"], watch, seconds=_FETCH
        )
        if said.code:
            return UpdatesListed(taken_at=at, unread=f"its lists cannot be had: {_why(said)}")
        return UpdatesListed(
            taken_at=at,
            updates=tuple(self._missing(watch))[:MOST_UPDATES],
            restart_waits=self._restart_waits(),
        )

    def _missing(self, watch: Watch) -> Iterator[Update]:
        # in this order: where another installs meanwhile, the second list is the shorter one
        unattended = {step.name for step in self._planned(["--with-new-pkgs", "upgrade"], watch)}
        every = self._planned(["--ignore-hold", "dist-upgrade"], watch)
        by_hand = self._packages.held()
        said = self._ask([APT_GET, "-y", "--print-uris", "--ignore-hold", "dist-upgrade"], watch)
        sizes = {(m[1], m[2].replace("%3a", ":")): int(m[3]) for m in _URIS.finditer(said.text)}
        goes = [step.name for step in every if step.does == "Remv"]
        for step in every:
            if step.does != "Inst" or not step.now:
                # what is new comes with what asks for it
                continue
            held = ""
            if step.name not in unattended:
                held = _held_by(step.name, by_hand, goes)
            yield Update(
                name=step.name[:200],
                now=step.now[:200],
                version=step.version[:200],
                origin=step.origin[:500],
                security="security" in step.origin.lower(),
                size=sizes.get((step.name.partition(":")[0], step.version)),
                held_back=held,
            )

    def _restart_waits(self) -> str:
        for below in ("run/reboot-required", "var/run/reboot-required"):
            if os.path.exists(os.path.join(self._root, below)):
                return "updates that were installed ask for it"
        return ""

    def install(
        self, action: InstallUpdates, watch: Watch, cut_off: UnderWay | None = None
    ) -> Iterator[ActionPart | UnderWay]:
        """Install what is missing, one after the other: a bad one costs only itself, and between
        two of them it can be called off. Nothing is removed."""
        watch(0, None)
        if why := package_preconditions.why_not(self._root):
            yield ActionPart(target="", end=ActEnd.REFUSED, why=f"nothing was begun: {why}")
            return
        if not self._is_free(watch):
            yield ActionPart(target="", end=ActEnd.FAILED, why=_BUSY)
            return
        yield from self._finish_cut_off(watch)
        ended = cut_off is not None and self._version_of(cut_off.target) == cut_off.after
        if ended and cut_off is not None:
            yield self._done(cut_off)
        listed = self.updates(watch)
        if listed.unread:
            yield ActionPart(target="", end=ActEnd.FAILED, why=listed.unread)
            return
        wanted = [
            update for update in listed.updates
            if (update.security or not action.only_security)
            and (not action.names or update.name in action.names)
        ]  # fmt: skip
        there = {update.name for update in wanted}
        for name in action.names:
            if name not in there and not (ended and cut_off and name == cut_off.target):
                yield ActionPart(target=name, end=ActEnd.NOTHING, why="nothing newer is offered")
        if not wanted and not action.names and not ended:
            yield ActionPart(target="", end=ActEnd.NOTHING, why="nothing is missing")
        for number, update in enumerate(wanted):
            watch(number, len(wanted))
            yield from self._install_one(update, watch)
        yield from self._unfinished()

    def _install_one(self, update: Update, watch: Watch) -> Iterator[ActionPart | UnderWay]:
        begins = UnderWay(target=update.name, before=update.now, after=update.version)
        if self._version_of(update.name) == update.version:
            yield self._done(begins)
            return
        if update.held_back:
            yield ActionPart(target=update.name, end=ActEnd.REFUSED, why=update.held_back)
            return
        if why := self._no_room(update, watch):
            yield _failed(update, f"nothing was begun: {why}")
            return
        command = [APT_GET, "-y", "-q", "--no-remove", "--only-upgrade"]
        what = ["install", f"{update.name}={update.version}"]
        # to fetch can be ended at any time; to install must end what it has begun
        fetched = self._ask([*command, "--download-only", *what], watch, seconds=_FETCH)
        if fetched.code:
            yield _failed(update, _why(fetched))
            return
        yield begins
        with self._to_the_end([*command, *what], watch) as output:
            if self._version_of(update.name) == update.version:
                yield self._done(begins)
            elif output.code:
                yield _failed(update, _why(output))
            else:
                yield _failed(update, "the package manager says it is done, and it is not")

    def _done(self, update: UnderWay) -> ActionPart:
        return ActionPart(
            target=update.target, end=ActEnd.DONE, before=update.before, after=update.after,
            needs_restart=bool(self._restart_waits()),
        )  # fmt: skip

    def _no_room(self, update: Update, watch: Watch) -> str:
        """What has too little room for an update and what comes with it; empty: nothing."""
        what = ["--no-remove", "--only-upgrade", "install", f"{update.name}={update.version}"]
        try:
            steps = [step for step in self._planned(what, watch) if step.does == "Inst"]
            unpacked = sum(self._unpacked(step, watch) for step in steps)
        except OSError:
            # it will say itself why it does not begin
            return ""
        kernel = any(step.name.startswith(("linux-image", "initramfs")) for step in steps)
        return package_preconditions.why_no_room(
            update.size or 0, unpacked, self._root, kernel=kernel
        )

    def _unpacked(self, step: Planned, watch: Watch) -> int:
        """Bytes that a version takes when it is unpacked, as its maker says (Debian Policy 5.6.20:
        `Installed-Size` is in KiB)."""
        package = f"{step.name}={step.version}"
        control = self._ask([APT_CACHE, "show", "--no-all-versions", package], watch)
        match = re.search(r"^Installed-Size: (\d+)", control.text, re.MULTILINE)
        return int(match[1]) * 1024 if match else 0

    # --- programs --------------------------------------------------------------------------------

    def try_removal(self, action: TryRemoval, watch: Watch) -> ActionPart:
        """What removing a program would take along. Nothing is done."""
        tried = self._tried(action.program, action.version, watch)
        end = ActEnd.REFUSED if tried.refused else ActEnd.DONE
        return ActionPart(target=action.program, end=end, why=tried.refused, tried=tried)

    def _tried(self, name: str, version: str, watch: Watch) -> RemovalTried:
        def refused(why: str) -> RemovalTried:
            return RemovalTried(
                program=name, version=version, can_come_back=False, refused=why[:500]
            )

        installed = {package.name: package for package in self._packages.installed()}
        package = installed.get(name)
        if package is None:
            return refused("it is not installed")
        if package.version != version:
            return refused(f"it is of version {package.version} by now")
        try:
            options = ["-o", "APT::Get::AutomaticRemove=false"]
            planned = self._planned([*options, "remove", name], watch)
        except OSError as failure:
            return refused(f"the package manager refuses: {failure.strerror}")
        goes = [step.name for step in planned if step.does == "Remv"]
        if name not in goes:
            return refused("the package manager does not say what would be removed")
        if comes := [step.name for step in planned if step.does == "Inst"]:
            return refused(f"{', '.join(comes[:5])} would come instead")
        for other in goes:
            # the simulation of apt lets essential ones go: the field is what counts
            if (member := installed.get(other)) is None or member.is_essential:
                return refused(f"the system needs {other}")
        if needed := self._own_package() & set(goes):
            return refused(f"the agent itself needs {min(needed)}")
        members = [installed[other] for other in goes]
        along = tuple(
            Along(name=member.name, version=member.version)
            for member in members if member.name != name
        )  # fmt: skip
        if len(along) > 200:
            return refused(f"{len(along)} others would be removed with it")
        return RemovalTried(
            program=name,
            version=version,
            along=along,
            frees=sum(member.size for member in members),
            can_come_back=all(
                self._can_be_had(member.name, member.version, watch) for member in members
            ),
        )

    def remove(self, action: RemoveProgram, watch: Watch) -> Iterator[ActionPart]:
        """Remove exactly what was agreed to; refused where anything else would be removed."""
        watch(0, None)
        if why := package_preconditions.why_not(self._root):
            yield ActionPart(
                target=action.program, end=ActEnd.REFUSED, why=f"nothing was begun: {why}"
            )
            return
        if not self._is_free(watch):
            yield ActionPart(target=action.program, end=ActEnd.FAILED, why=_BUSY)
            return
        yield from self._finish_cut_off(watch)
        agreed = {other.name: other.version for other in action.along}
        if self._version_of(action.program) is None and not any(map(self._version_of, agreed)):
            yield ActionPart(target=action.program, end=ActEnd.DONE, after="not installed any more")
            return
        tried = self._tried(action.program, action.version, watch)
        why = tried.refused or _other(agreed, tried)
        if not why and not tried.can_come_back and not action.not_reinstallable:
            why = "this version cannot be had again, and nobody agreed to that"
        if why:
            yield ActionPart(target=action.program, end=ActEnd.REFUSED, why=why)
            return
        watch(0, 1)
        options = ["-y", "-q", "-o", "APT::Get::AutomaticRemove=false"]
        with self._to_the_end([APT_GET, *options, "remove", action.program], watch) as output:
            for name, version in ((action.program, action.version), *agreed.items()):
                if (now := self._version_of(name)) is None:
                    yield ActionPart(
                        target=name, end=ActEnd.DONE, before=version, after="not installed"
                    )
                else:
                    words = _why(output) if output.code else f"it is still there, {now}"
                    yield ActionPart(target=name, end=ActEnd.FAILED, before=version, why=words)
        yield from self._unfinished()

    def _own_package(self) -> set[str]:
        """What the agent's own interpreter belongs to."""
        said = self._ask([DPKG, "-S", os.path.realpath(sys.executable)], lambda *_: None)
        names = said.text.partition(": ")[0] if not said.code else ""
        return {name.strip().partition(":")[0] for name in names.split(",") if name.strip()}

    def _can_be_had(self, name: str, version: str, watch: Watch) -> bool:
        said = self._ask([APT_CACHE, "madison", name], watch)
        rows = (line.split("|") for line in said.text.splitlines())
        return any(len(row) == 3 and row[1].strip() == version for row in rows)

    # --- how it is asked -------------------------------------------------------------------------

    def _planned(self, what: Sequence[str], watch: Watch) -> list[Planned]:
        """What apt would do. OSError where it cannot say."""
        said = self._ask([APT_GET, "-s", "-q", *what], watch)
        steps = [
            Planned(m[1], m[2], m[3] or "", m[4] or "", m[5] or "")
            for m in _STEPS.finditer(said.text)
        ]
        if said.code and not steps:
            raise OSError(errno.EIO, _why(said), what[-1])
        return steps

    def _version_of(self, name: str) -> str | None:
        """The version that is installed, whole; None: none is."""
        plain = name.partition(":")[0]
        return next((p.version for p in self._packages.installed() if p.name == plain), None)

    def _is_free(self, watch: Watch) -> bool:
        """Whether nobody else installs, waiting for them for a while: an installation that an agent
        before this one began goes on without it."""
        until = time.monotonic() + _WAIT
        while self._is_at_work():
            if time.monotonic() > until:
                return False
            watch()
            time.sleep(0.2)
        return True

    def _is_at_work(self) -> bool:
        """By the locks that apt and dpkg take: where apt was ended, the dpkg it had begun has one
        of its own. They are asked for and not taken, so nobody is kept out."""
        folder = os.path.join(self._root, "var/lib/dpkg")
        return any(_is_locked(os.path.join(folder, name)) for name in ("lock-frontend", "lock"))

    def _finish_cut_off(self, watch: Watch) -> Iterator[ActionPart]:
        """What was cut off in the middle is ended first; what cannot be is said."""
        before = self._packages.unfinished()
        if before or self._packages.is_cut_off():
            with self._to_the_end([DPKG, "--configure", "-a"], watch):
                pass
            for name in self._packages.unfinished():
                # what was not even unpacked whole has to come again
                again = ["-y", "-q", "--no-remove", "--reinstall", "install", name]
                with self._to_the_end([APT_GET, *again], watch):
                    pass
            left = self._packages.unfinished()
            for name in before:
                if name not in left:
                    why = "it was installed in part, and is whole again"
                    yield ActionPart(target=name, end=ActEnd.DONE, after="installed", why=why)

    def _unfinished(self) -> Iterator[ActionPart]:
        for name, state in self._packages.unfinished().items():
            why = f"it is {state}: see to it by hand, `dpkg --audit` says what is wrong"
            yield ActionPart(target=name, end=ActEnd.FAILED, why=why)

    def _dpkg_options(self) -> list[str]:
        return [] if self._root == "/" else [f"--root={self._root}", *_CHROOTLESS]

    def _command(self, command: Sequence[str]) -> list[str]:
        tool, *rest = command
        if tool == DPKG:
            return [tool, *self._dpkg_options(), *rest]
        confirm = ["-o", "Dpkg::Options::=--force-confold", "-o", "DPkg::Lock::Timeout=300"]
        return [tool, *self._options, *(confirm if tool == APT_GET else ()), *rest]

    def _ask(self, command: Sequence[str], watch: Watch, *, seconds: float = _ASK) -> ToolOutput:
        if not os.path.exists(command[0]):
            raise FileNotFoundError(errno.ENOENT, "there is no apt here", command[0])
        return run(
            self._command(command), self._environment, seconds=seconds, breathe=watch, most=_MOST
        )

    @contextmanager
    def _to_the_end(self, command: Sequence[str], watch: Watch) -> Iterator[ToolOutput]:
        """A command that must end what it has begun: it goes on when the agent ends, and whoever
        calls the work off waits for it, and for what is told of it."""
        stop: BaseException | None = None
        with tempfile.TemporaryFile() as output:
            tool = start_apart(
                self._command(command), self._environment, output, umask=SYSTEM_UMASK
            )
            until = time.monotonic() + _HOURS
            while tool.poll() is None and time.monotonic() < until:
                time.sleep(0.1)
                try:
                    if stop is None:
                        watch()
                except Exception as raised:  # noqa: BLE001
                    stop = raised
            output.seek(max(0, output.seek(0, os.SEEK_END) - 65536))
            text = output.read().decode("utf-8", "replace")
        if tool.returncode is None:
            yield ToolOutput(255, "it did not end within four hours, and is left to itself")
        else:
            yield ToolOutput(tool.returncode, text)
        if stop is not None:
            raise stop


def _is_locked(path: str) -> bool:
    try:
        lock = os.open(path, os.O_RDWR)
    except FileNotFoundError:
        return False
    try:
        question = struct.pack("hhqqi4x", fcntl.F_WRLCK, os.SEEK_SET, 0, 0, 0)
        answer = struct.unpack("hhqqi4x", fcntl.fcntl(lock, fcntl.F_GETLK, question))
    finally:
        os.close(lock)
    return bool(answer[0] != fcntl.F_UNLCK)


def _held_by(name: str, by_hand: Collection[str], goes: Sequence[str]) -> str:
    """Why a package manager left to itself would not install an update."""
    if name in by_hand:
        return "held by the administrator"
    if goes:
        return f"{', '.join(goes[:5])} would be removed"
    return "the package manager keeps it back"


def _failed(update: Update, why: str) -> ActionPart:
    return ActionPart(target=update.name, end=ActEnd.FAILED, before=update.now, why=why)


def _other(agreed: Mapping[str, str], tried: RemovalTried) -> str:
    """What would be removed that nobody agreed to, or is not as it was agreed to; empty:
    nothing."""
    goes = {other.name: other.version for other in tried.along}
    if more := [name for name in goes if name not in agreed]:
        return f"{', '.join(more[:5])} would be removed too, and nobody agreed to that"
    if otherwise := [name for name in goes if goes[name] != agreed[name]]:
        return f"{otherwise[0]} is of version {goes[otherwise[0]]} by now"
    return ""


def _why(said: ToolOutput) -> str:
    """What a tool gives as its reason: its own lines of errors, else its last."""
    lines = [line.strip() for line in said.text.splitlines() if line.strip()]
    telling = [line for line in lines if re.match(r"(E:|dpkg: error)", line)] or lines[-2:]
    return " ".join(telling[:3])[:400] or f"it ended with {said.code}"


def _own_settings(root: str) -> IO[str]:
    """Where a system below another root has its own settings: apt reads them before its options, so
    an option would come too late, and what this machine's own apt runs by the way would run."""
    settings = tempfile.NamedTemporaryFile("w", suffix=".conf")  # noqa: SIM115
    settings.write(f'Dir "{root}";\nDir::Etc::Parts "{root}/etc/apt/apt.conf.d";\n')
    settings.flush()
    return settings


def _elsewhere(root: str) -> list[str]:
    """Options for a system below another root."""
    settings = (
        f"Dir::State::status={root}/var/lib/dpkg/status",
        "APT::Sandbox::User=root",
        f"Dir::Bin::dpkg={DPKG}",
        f"Dpkg::Options::=--root={root}",
        "Dpkg::Options::=--force-not-root",
        "Dpkg::Options::=--force-script-chrootless",
        f"Dpkg::Options::=--log={root}/var/log/dpkg.log",
    )
    return [word for setting in settings for word in ("-o", setting)]

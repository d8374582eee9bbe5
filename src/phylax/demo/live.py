"""The demo alive: the service and four machines' agents as processes of their own."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import FrameType

import httpx
from aiosmtpd.controller import Controller

from phylax.agent.config.home import AgentHome
from phylax.agent.machines.standin import StandInMachine
from phylax.client import UnreachableError
from phylax.core.attention.notices import MailServerEdit
from phylax.core.tuning.starts import BootCost
from phylax.demo import held, scenario
from phylax.demo.mailbox import open_mailbox
from phylax.demo.waiting import StillError, wait_for
from phylax.service.serving.serve import FILE
from phylax.store.attention import notices
from phylax.store.file.database import Database

_MADE = "made"


def run(data: Path, port: int, *, fresh: bool, only_make: bool) -> None:
    """Make the demo if it is not there, start it, and stay until told to stop."""
    url = f"http://127.0.0.1:{port}"
    if fresh and data.exists():
        if not (data / _MADE).exists() and any(data.iterdir()):
            sys.exit(f"{data} is no demo of ours; it stays as it is. Choose another --data.")
        shutil.rmtree(data)
    is_new = not (data / _MADE).exists()
    if is_new:
        _make(data, url)
    if only_make:
        return
    for wanted in (port, port + 1):
        if _is_taken(wanted):
            sys.exit(
                f"Port {wanted} is taken: is the demo running already? Else choose another --port."
            )
    _Live(data, port, url, is_new=is_new).stay()


def restart(data: Path, tag: str, times: int) -> list[BootCost]:
    """Let a machine of the demo start anew, so many times. ValueError where there is none."""
    folder = data / "machines" / tag
    if "/" in tag or not folder.is_dir():
        raise ValueError(f"the demo in {data} has no machine {tag!r}; see 'phylax machine list'")
    machine = StandInMachine(folder)
    now = datetime.now(UTC)
    return [machine.upkeep.start_anew(now + timedelta(seconds=number)) for number in range(times)]


def _make(data: Path, url: str) -> None:
    """Made beside and moved into place, so that there is never half a demo."""
    from phylax.demo.shop import make

    began = time.monotonic()
    half = data.with_name(data.name + ".half")
    shutil.rmtree(half, ignore_errors=True)
    half.mkdir(parents=True)
    make(half, datetime.now(UTC), url, lives_in=data)
    (half / _MADE).write_text("", encoding="ascii")
    if data.exists():
        data.rmdir()
    half.rename(data)
    print(f"Made the demo shop in {time.monotonic() - began:.1f} s.", flush=True)


def _call_at(home: AgentHome, url: str) -> None:
    """The demo may be started at another port than the one it was made for."""
    config = home.config()
    if config.url != url:
        home.save(config.model_copy(update={"url": url}), home.key())


def _is_taken(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


class _Live:
    def __init__(self, data: Path, port: int, url: str, *, is_new: bool) -> None:
        self._is_new = is_new
        self._data = data
        self._port = port
        self._url = url
        self._children: list[subprocess.Popen[bytes]] = []
        self._stopping = False

    def stay(self) -> None:
        signal.signal(signal.SIGTERM, self._stop)
        signal.signal(signal.SIGINT, self._stop)
        mailbox = self._open_mailbox()
        try:
            service = self._start(
                "service", "serve", "--data", str(self._data), "--port", str(self._port)
            )
            self._wait_until_ready(service)
            for spec in scenario.MACHINES:
                if spec.live:
                    folder = self._data / "agents" / spec.tag
                    _call_at(AgentHome(folder), self._url)
                    self._start(spec.tag, "agent", "start", "--data", str(folder))
            if self._is_new:
                self._wait_for("the first order", self._order_held)
            self._say_ready()
            while not self._stopping and service.poll() is None:
                time.sleep(0.2)
            if service.poll() is not None and not self._stopping:
                sys.exit(
                    f"The service ended with {service.returncode}; see {self._log('service')}."
                )
        finally:
            self._end_all()
            mailbox.stop()

    def _open_mailbox(self) -> Controller:
        """The demo's mail server, at the port beside the service's; the shop is told."""
        mailbox = open_mailbox(self._data / "mail", self._port + 1)
        database = Database(self._data / FILE)
        try:
            with database.write() as conn:
                edit = MailServerEdit(
                    host="127.0.0.1",
                    port=self._port + 1,
                    security="none",
                    sender="phylax@quayside.example",
                )
                known = notices.mail_server(conn)
                if known is None or known.port != edit.port:
                    notices.put_mail_server(conn, edit, who="Ines Marrow", at=int(time.time()))
        finally:
            database.close()
        return mailbox

    def _log(self, name: str) -> Path:
        return self._data / "logs" / f"{name}.log"

    def _start(self, name: str, *words: str) -> subprocess.Popen[bytes]:
        log = self._log(name)
        log.parent.mkdir(exist_ok=True)
        with log.open("ab") as file:
            # a session of its own: Ctrl-C reaches us, and we stop them in order
            child = subprocess.Popen(
                [sys.executable, "-m", "phylax", *words],
                stdin=subprocess.DEVNULL,
                stdout=file,
                stderr=file,
                start_new_session=True,
                env=os.environ | {"PYTHONUNBUFFERED": "1"},
            )
        self._children.append(child)
        return child

    def _wait_until_ready(self, service: subprocess.Popen[bytes]) -> None:
        self._wait_for("the service", lambda: self._answers(service))

    def _answers(self, service: subprocess.Popen[bytes]) -> bool:
        if service.poll() is not None and not self._stopping:
            sys.exit(f"The service did not start; see {self._log('service')}.")
        with suppress(httpx.TransportError):
            return self._stopping or httpx.get(f"{self._url}/api/v2/health").is_success
        return False

    def _order_held(self) -> bool:
        """Whether what can be put back was ordered; asked again where the answer was late."""
        with suppress(UnreachableError):
            if not self._stopping:
                held.order(self._url)
            return True
        return False

    def _wait_for(self, what: str, is_there: Callable[[], bool]) -> None:
        processes = [child.pid for child in self._children]
        logs = sorted(self._log("service").parent.glob("*.log"))
        try:
            wait_for(what, is_there, processes, logs, say=lambda word: print(word, flush=True))
        except StillError as still:
            sys.exit(f"Gave up on {still}. See {self._log('service')}.")

    def _say_ready(self) -> None:
        print(
            f"Phylax is ready at {self._url}\n"
            f"Sign in as ines (owner), tobias or wren (technicians) or petra (desk), "
            f"password {scenario.PASSWORD}\n"
            f"Mail that is sent lies in {self._data / 'mail'}\n"
            f"Command line: export PHYLAX_TOKEN_FILE={self._data / 'owner.token'}\n"
            "Ctrl-C stops everything.",
            flush=True,
        )

    def _stop(self, number: int, frame: FrameType | None) -> None:
        self._stopping = True

    def _end_all(self) -> None:
        """Agents first, so that the service hears of it; by their own process ids."""
        for child in reversed(self._children):
            if child.poll() is None:
                child.terminate()
        for child in self._children:
            try:
                child.wait(timeout=60)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()

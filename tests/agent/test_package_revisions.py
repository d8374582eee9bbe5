"""Disabled revisions of self-contained packages, through the package service's own socket."""

import json
import socketserver
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler
from pathlib import Path
from typing import ClassVar

import pytest

from engine import Bench, ByContents, lines_of
from phylax.agent.machines.linux.revisions import remove, revisions


@pytest.fixture
def root(tmp_path: Path) -> Path:
    (tmp_path / "anna").mkdir()
    return tmp_path


class _Snapd(BaseHTTPRequestHandler):
    """A stand-in of the package service: answers as its interface documents."""

    answer: object = {
        "type": "sync", "status-code": 200,
        "result": [
            {"name": "hymnal", "revision": "41", "status": "installed", "installed-size": 5000,
             "install-date": "2026-01-01T10:00:00Z"},
            {"name": "hymnal", "revision": "40", "status": "installed", "installed-size": 4000,
             "install-date": "2025-10-01T10:00:00+01:00"},
            {"name": "hymnal", "revision": "42", "status": "active", "installed-size": 6000},
            {"name": "score", "revision": "x1", "status": "installed", "installed-size": 700},
        ],
    }  # fmt: skip
    status = 200
    removed: ClassVar[list[dict]] = []
    change: ClassVar[list[dict]] = []
    """What a change says of itself, one answer after the other."""

    def do_POST(self) -> None:
        asked = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        assert asked["action"] == "remove"
        if asked["revision"] == "x1":
            self._tell(400, {"type": "error", "result": {"message": "revision x1 is in use"}})
            return
        self.removed.append({"path": self.path, **asked})
        self._tell(202, {"type": "async", "change": "77", "result": None})

    def do_GET(self) -> None:
        if self.path == "/v2/changes/77":
            self._tell(200, {"result": self.change.pop(0)})
            return
        assert self.path == "/v2/snaps?select=all", self.path
        self._tell(self.status, self.answer)

    def _tell(self, status: int, answer: object) -> None:
        body = json.dumps(answer).encode()
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def address_string(self) -> str:
        return "socket"

    def log_message(self, *_: object) -> None:
        """Quiet."""


@pytest.fixture
def socket(tmp_path: Path) -> Iterator[str]:
    path = str(tmp_path / "snapd.socket")
    server = socketserver.ThreadingUnixStreamServer(path, _Snapd)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield path
    server.shutdown()
    server.server_close()
    thread.join(5)


def test_disabled_revisions_are_found_and_the_newest_of_each_package_kept(
    root: Path, socket: str
) -> None:
    machine = ByContents([str(root / "anna")], root=str(root), packages_socket=socket)
    (root / "agent").mkdir()
    line = Bench(machine, root / "agent").look("package-revisions", keep_for="P0D", keep_newest=1)
    assert line is not None
    assert {i.path: (i.size, i.reason) for i in line.largest} == {
        "hymnal (41)": (5000, "among the newest"),
        "hymnal (40)": (4000, None),
        "score (x1)": (700, "among the newest"),
    }


@pytest.mark.parametrize(("status", "answer"), [(500, {}), (200, {"no": "result"}), (200, [1])])
def test_a_package_service_that_fails_is_said_not_guessed(
    root: Path, socket: str, monkeypatch: pytest.MonkeyPatch, status: int, answer: object
) -> None:
    monkeypatch.setattr(_Snapd, "status", status)
    monkeypatch.setattr(_Snapd, "answer", answer)
    machine = ByContents([str(root / "anna")], root=str(root), packages_socket=socket)
    with pytest.raises(OSError, match="the package service"):
        list(revisions(socket))
    (line,) = (one for one in lines_of(machine) if one.category == "package-revisions")
    assert (line.total.count, line.unread_count) == (0, 1)
    assert "package service" in line.unread[0].why


@pytest.fixture
def told(monkeypatch: pytest.MonkeyPatch) -> list[dict]:
    removed: list[dict] = []
    monkeypatch.setattr(_Snapd, "removed", removed)
    return removed


def test_a_disabled_revision_is_let_go_through_the_service_and_waited_for(
    root: Path, socket: str, told: list[dict], monkeypatch: pytest.MonkeyPatch
) -> None:
    states = [{"ready": False, "status": "Doing"}, {"ready": True, "status": "Done"}]
    monkeypatch.setattr(_Snapd, "change", states)
    machine = ByContents([str(root / "anna")], root=str(root), packages_socket=socket)
    (root / "agent").mkdir()
    outcome, cleaner = Bench(machine, root / "agent").clean(
        "package-revisions", keep_for="P0D", keep_newest=1
    )
    assert told == [{"path": "/v2/snaps/hymnal", "action": "remove", "revision": "40"}]
    assert (outcome.removed.count, outcome.removed.size) == (1, 4000)
    assert not states and not cleaner.outcomes.named


@pytest.mark.parametrize(
    ("name", "change", "why"),
    [
        ("hymnal (42)", [], "active one by now"),
        ("hymnal (39)", [], "no such revision"),
        ("nonsense", [], "no such revision"),
        ("score (x1)", [], "revision x1 is in use"),
        (
            "hymnal (40)",
            [{"ready": True, "status": "Error", "err": "disk is gone"}],
            "disk is gone",
        ),
        ("hymnal (40)", [{"ready": False, "status": "Doing"}] * 9, "not done yet"),
    ],
)
def test_a_revision_that_cannot_go_is_left_with_the_services_word(
    socket: str, monkeypatch: pytest.MonkeyPatch, name: str, change: list[dict], why: str
) -> None:
    monkeypatch.setattr(_Snapd, "change", list(change))
    with pytest.raises(OSError, match=why):
        remove(name, socket, pause=0.01, patience=0.05)


def test_without_a_package_service_there_are_no_revisions(tmp_path: Path) -> None:
    assert list(revisions(str(tmp_path / "none"))) == []

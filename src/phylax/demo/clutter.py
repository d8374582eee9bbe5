"""What gathers on a machine besides the obvious: something of every category of its system.

Laid out by the catalogue itself, so that a category added there is found in the demo as well.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Any

from phylax.agent.machines.standin import BELOW_HOME, BELOW_TOP
from phylax.core.catalogue import Category, Where, catalogue
from phylax.core.ground.machines import System
from phylax.demo.tree import GIB, Tree

_ELSEWHERE = frozenset({"user-temp", "trash", "downloads", "web-cache", "own-folders"})
"""Laid out with the person's own things."""
_CHROMIUM_EPOCH = 11_644_473_600


@dataclass(frozen=True)
class Heap:
    """How much of a category gathers: files, GiB, and how old it gets in days."""

    files: int
    gib: float
    oldest: float = 120


HEAPS = {
    "system-temp": Heap(40, 0.5, 30), "user-caches": Heap(60, 0.9), "thumbnails": Heap(12, 0.3),
    "launch-traces": Heap(30, 0.02), "update-leftovers": Heap(8, 0.6),
    "update-downloads": Heap(14, 1.1, 40), "peer-update-cache": Heap(10, 0.8, 20),
    "update-logs": Heap(18, 0.1), "earlier-system": Heap(60, 9.0, 30),
    "setup-leftovers": Heap(12, 0.4, 200), "error-reports": Heap(14, 0.3, 60),
    "old-logs": Heap(9, 2.1, 150), "journal": Heap(10, 1.2, 90),
    "device-backups": Heap(24, 6.0, 700), "bundled-media": Heap(9, 0.2, 900),
    "tool-caches": Heap(40, 0.7, 200), "large-and-idle": Heap(4, 5.0, 900),
}  # fmt: skip
"""Of an everyday machine."""
ON_MACHINES = {
    "choir-server": {"journal": Heap(38, 4.6, 200), "old-logs": Heap(14, 3.8, 300)},
    "boatyard-mac": {"device-backups": Heap(60, 41.0, 900)},
    "oakes-laptop": {"user-caches": Heap(160, 3.4), "large-and-idle": Heap(11, 26.0, 900)},
    "museum-kiosk": {"large-and-idle": Heap(2, 1.0, 500)},
}
_SITES = (
    "timetable.example", "weather.tarnskerry.example", "news.harbour.example",
    "bookings.skerryferry.example", "glaze-forum.example", "post.example", "maps.example",
    "webmail.quayside.example", "tides.example", "hymnal.example",
)  # fmt: skip
_PROGRAMS = (
    ("Tidebook", 0.4, 3), ("Chartroom 7", 2.9, 12), ("Slip & Keel Drawing", 6.2, 5),
    ("Paper Harbour", 0.9, 1), ("Kilnlog", 0.2, 20), ("Scanwell Tray", 0.3, 2),
    ("Sunfish Photo Trial", 3.4, 410), ("Larboard Office", 4.8, 1), ("Gull Player", 0.6, 260),
    ("Driftwood Puzzle Pack", 5.1, 690),
)  # fmt: skip
_REVISIONS = (("hymnal-viewer", 3), ("scorebook", 2), ("harbour-base", 3), ("choir-web", 2))


def scatter(tree: Tree, tag: str, system: System, home: Path, top: Path) -> None:
    """Lay out every category's files below a person's home and the top of the system's volume."""
    heaps = HEAPS | ON_MACHINES.get(tag, {})
    for kind in catalogue().values():
        if kind.key in _ELSEWHERE or kind.shape == "things":
            continue
        wheres = kind.on(system)
        if kind.shape in ("sites", "visits"):
            # one browser that is used and one that was tried once
            for where in wheres[:1] + wheres[-1:]:
                _browser(tree, kind, where, _folder(where, system, home, top))
            continue
        heap = heaps.get(kind.key, Heap(10, 0.1))
        for number, where in enumerate(wheres):
            share = heap if len(wheres) == 1 else Heap(
                max(2, heap.files // len(wheres)), heap.gib / len(wheres), heap.oldest
            )  # fmt: skip
            _heap(tree, kind, where, _folder(where, system, home, top), share, number)


def _folder(where: Where, system: System, home: Path, top: Path) -> Path:
    """The first folder a place stands for."""
    below = BELOW_HOME[system].get(where.folder)
    base = home / below if below is not None else top / BELOW_TOP[system][where.folder][0]
    path = where.below[-1].replace("*", "Default" if "Chrom" in where.below[-1] else "harbour")
    return base / path if path else base


def _heap(tree: Tree, kind: Category, where: Where, folder: Path, heap: Heap, number: int) -> None:
    random = tree.random
    oldest = heap.oldest

    def name(n: int) -> Path:
        if kind.shape == "folders":
            return folder / _item_folder(tree, kind, where, n) / f"{random.getrandbits(40):010x}"
        if kind.key == "large-and-idle":
            return folder / "Projects" / f"{tree.word()}-{n}.iso"
        if kind.key == "journal":
            sequence = f"{random.getrandbits(64):016x}"
            return folder / "4f1c" / f"system@{sequence}-{n:016x}.journal"
        if where.names:
            pattern = where.names[n % len(where.names)].replace("[0-9]", str(n % 9))
            return folder / pattern.replace("*", f"{tree.word()}-{number}-{n}")
        return folder / tree.word() / f"{tree.word()}-{n}.dat"

    youngest = 200.0 if kind.key == "large-and-idle" else 0.0
    tree.files((heap.files, heap.gib), lambda: random.uniform(youngest, oldest), name)


def _item_folder(tree: Tree, kind: Category, where: Where, n: int) -> str:
    if kind.key == "device-backups":
        # two devices, one of which was archived twice
        device = f"00008{n % 2}30-001A{n % 2:04d}"
        return device + ("", "-20250311-181200", "-20241102-094500")[n % 3 if n % 2 else 0]
    return where.names[n % min(2, len(where.names))].replace("*", "4711")


def _browser(tree: Tree, kind: Category, where: Where, folder: Path) -> None:
    """A cookie store or a history as the browser itself keeps it."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / where.names[0]
    random = tree.random
    sites = random.sample(_SITES, random.randint(6, len(_SITES)))
    rows = [
        (site, n, int((tree.now - timedelta(days=random.uniform(0, 300))).timestamp()))
        for site in sites
        for n in range(random.randint(1, 5))
    ]
    with closing(sqlite3.connect(path)) as conn, conn:
        _WRITERS[path.name](conn, rows)
    tree.total += path.stat().st_size


_Rows = list[tuple[str, int, int]]
"""(site, number, epoch second)"""


def _chromium_cookies(conn: sqlite3.Connection, rows: _Rows) -> None:
    conn.execute(
        "CREATE TABLE cookies (creation_utc INTEGER, host_key TEXT, name TEXT, value TEXT,"
        " encrypted_value BLOB, path TEXT, last_access_utc INTEGER)"
    )
    conn.executemany(
        "INSERT INTO cookies VALUES (?, ?, ?, '', ?, '/', ?)",
        [
            (_chromium(at), f".{s}", f"sid{n}", b"v10" + bytes(60), _chromium(at))
            for s, n, at in rows
        ],
    )


def _firefox_cookies(conn: sqlite3.Connection, rows: _Rows) -> None:
    conn.execute(
        "CREATE TABLE moz_cookies (id INTEGER PRIMARY KEY, name TEXT, value TEXT, host TEXT,"
        " path TEXT, lastAccessed INTEGER, creationTime INTEGER)"
    )
    conn.executemany(
        "INSERT INTO moz_cookies (name, value, host, path, lastAccessed, creationTime)"
        " VALUES (?, ?, ?, '/', ?, ?)",
        [(f"sid{n}", "x" * 60, s, at * 10**6, at * 10**6) for s, n, at in rows],
    )


def _chromium_history(conn: sqlite3.Connection, rows: _Rows) -> None:
    conn.execute(
        "CREATE TABLE urls (id INTEGER PRIMARY KEY, url TEXT, title TEXT, last_visit_time INTEGER)"
    )
    conn.execute("CREATE TABLE visits (id INTEGER PRIMARY KEY, url INTEGER, visit_time INTEGER)")
    for site, n, at in rows:
        number = conn.execute(
            "INSERT INTO urls (url, title, last_visit_time) VALUES (?, ?, ?)",
            (f"https://{site}/page/{n}", f"Page {n} of {site}", _chromium(at)),
        ).lastrowid
        conn.execute("INSERT INTO visits (url, visit_time) VALUES (?, ?)", (number, _chromium(at)))


def _firefox_history(conn: sqlite3.Connection, rows: _Rows) -> None:
    conn.execute(
        "CREATE TABLE moz_places (id INTEGER PRIMARY KEY, url TEXT, title TEXT,"
        " last_visit_date INTEGER)"
    )
    conn.execute("CREATE TABLE moz_historyvisits (id INTEGER PRIMARY KEY, place_id INTEGER)")
    conn.execute("CREATE TABLE moz_bookmarks (id INTEGER PRIMARY KEY, fk INTEGER)")
    for site, n, at in rows:
        place = conn.execute(
            "INSERT INTO moz_places (url, title, last_visit_date) VALUES (?, ?, ?)",
            (f"https://{site}/page/{n}", f"Page {n} of {site}", at * 10**6),
        ).lastrowid
        conn.execute("INSERT INTO moz_historyvisits (place_id) VALUES (?)", (place,))
        if n == 0:
            conn.execute("INSERT INTO moz_bookmarks (fk) VALUES (?)", (place,))


def _chromium(at: int) -> int:
    return (at + _CHROMIUM_EPOCH) * 10**6


_WRITERS = {
    "Cookies": _chromium_cookies,
    "cookies.sqlite": _firefox_cookies,
    "History": _chromium_history,
    "places.sqlite": _firefox_history,
}


def things(tree: Tree, tag: str, system: System, memory: int) -> list[dict[str, Any]]:
    """What the machine has that is no file, as `things.json` lists it."""
    random = tree.random
    now = int(tree.now.timestamp())
    listed: list[dict[str, Any]] = []

    def add(source: str, name: str, gib: float, days: float | None, group: str = "") -> None:
        made = None if days is None else now - int(days * 86400)
        listed.append(
            {"source": source, "name": name, "size": int(gib * GIB), "made": made, "group": group}
        )

    scale = 0.2 if system is System.LINUX else 1.0
    for name, gib, unused in random.sample(_PROGRAMS, 7):
        known = random.random() > 0.2
        add("programs", name, scale * gib, unused + random.random() if known else None)
    match system:
        case System.WINDOWS:
            for n, back in enumerate((2, 9, 30, 61, 130)):
                day = tree.now - timedelta(days=back)
                add("restore-points", f"{day:%Y-%m-%d} before update {n + 1}", 1.4 + n / 5, back)
            add("hibernation-image", "Hibernation image", 0.4 * memory, 1)
        case System.MACOS:
            gib = 60.0 if tag == "pottery-mac" else 6.0
            for n in range(8):
                at = tree.now - timedelta(hours=5 + 13 * n)
                add("local-snapshots", f"{at:%Y-%m-%d %H:%M}", gib / 8, (5 + 13 * n) / 24)
        case System.LINUX:
            for package, revisions in _REVISIONS:
                for n in range(revisions):
                    made = 20 + 45 * n + random.random()
                    add("package-revisions", f"{package} ({90 - n})", 0.35, made, package)
            for n in range(3):
                add("old-kernels", f"6.1.0-{31 - 3 * n}-amd64", 0.42, 25 + 70 * n, "kernels")
    tree.total += sum(entry["size"] for entry in listed)
    return listed

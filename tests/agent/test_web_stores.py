"""Browsers' own tables: rows of sites go, those on the keep list stay, the files stay."""

import hashlib
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from engine import Bench, NothingRuns
from phylax.core.retention import ProtectEntry, ProtectKind, Reason

NOW = datetime.now(UTC)
KEEP = ProtectEntry(kind=ProtectKind.SITE, pattern="tickets.example")
SITES = ("tickets.example", "www.tickets.example", "news.example", "shop.example")


def chromium(days: float) -> int:
    """Microseconds since 1601, as Chromium counts."""
    return int((NOW - timedelta(days=days)).timestamp() + 11_644_473_600) * 10**6


def unix(days: float) -> int:
    return int((NOW - timedelta(days=days)).timestamp()) * 10**6


def chromium_profile(home: Path) -> Path:
    """A profile as Chromium writes it, the columns that matter here."""
    profile = home / ".config/chromium/Default"
    (profile / "Network").mkdir(parents=True)
    with closing(sqlite3.connect(profile / "Network/Cookies")) as conn, conn:
        conn.execute(
            "CREATE TABLE cookies (creation_utc INTEGER NOT NULL, host_key TEXT NOT NULL,"
            " name TEXT NOT NULL, value TEXT NOT NULL, encrypted_value BLOB NOT NULL,"
            " path TEXT NOT NULL, last_access_utc INTEGER NOT NULL)"
        )
        for n, site in enumerate(SITES):
            conn.execute(
                "INSERT INTO cookies VALUES (?, ?, 'sid', '', ?, '/', ?)",
                (chromium(50), f".{site}", bytes(100), chromium(10 * n)),
            )
    with closing(sqlite3.connect(profile / "History")) as conn, conn:
        conn.execute(
            "CREATE TABLE urls (id INTEGER PRIMARY KEY, url TEXT, title TEXT,"
            " last_visit_time INTEGER)"
        )
        conn.execute("CREATE TABLE visits (id INTEGER PRIMARY KEY, url INTEGER)")
        for n, site in enumerate(SITES):
            address = f"https://{site}/a?b=https://tickets.example"
            conn.execute("INSERT INTO urls VALUES (?, ?, 'T', ?)", (n, address, chromium(10 * n)))
            conn.execute("INSERT INTO visits (url) VALUES (?)", (n,))
    return profile


def firefox_profile(home: Path) -> Path:
    """A profile as Firefox writes it, with its write-ahead log."""
    profile = home / ".mozilla/firefox/x4k2.default"
    profile.mkdir(parents=True)
    with closing(sqlite3.connect(profile / "cookies.sqlite")) as conn, conn:
        conn.execute("PRAGMA journal_mode = WAL")
        conn.execute(
            "CREATE TABLE moz_cookies (id INTEGER PRIMARY KEY, name TEXT, value TEXT, host TEXT,"
            " path TEXT, lastAccessed INTEGER, creationTime INTEGER)"
        )
        for n, site in enumerate(SITES):
            conn.execute(
                "INSERT INTO moz_cookies VALUES (?, 'sid', ?, ?, '/', ?, ?)",
                (n, "v" * 100, site, unix(10 * n), unix(50)),
            )
    with closing(sqlite3.connect(profile / "places.sqlite")) as conn, conn:
        conn.execute(
            "CREATE TABLE moz_places (id INTEGER PRIMARY KEY, url TEXT, title TEXT,"
            " last_visit_date INTEGER)"
        )
        conn.execute("CREATE TABLE moz_historyvisits (id INTEGER PRIMARY KEY, place_id INTEGER)")
        conn.execute("CREATE TABLE moz_bookmarks (id INTEGER PRIMARY KEY, fk INTEGER)")
        for n, site in enumerate(SITES):
            conn.execute(
                "INSERT INTO moz_places VALUES (?, ?, NULL, ?)",
                (n, f"https://{site}/", unix(10 * n)),
            )
            conn.execute("INSERT INTO moz_historyvisits (place_id) VALUES (?)", (n,))
        conn.execute("INSERT INTO moz_bookmarks (fk) VALUES (3)")
    return profile


@pytest.fixture
def home(tmp_path: Path) -> Path:
    home = tmp_path / "anna"
    home.mkdir()
    return home


def bench(home: Path) -> Bench:
    (home.parent / "agent").mkdir(exist_ok=True)
    return Bench(NothingRuns([str(home)]), home.parent / "agent", protect=[KEEP])


def column(path: Path, sql: str) -> list:
    with closing(sqlite3.connect(path)) as conn:
        return [row[0] for row in conn.execute(sql)]


def fingerprints(folder: Path) -> dict[str, str]:
    return {
        str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest()
        for p in folder.rglob("*")
        if p.is_file()
    }


def test_a_look_finds_the_sites_of_every_browser_and_touches_no_byte(home: Path) -> None:
    chromium_profile(home)
    firefox_profile(home)
    before = fingerprints(home)
    it = bench(home)
    line = it.look("web-site-data", off=False, keep_for="P0D")
    assert line is not None
    assert (line.total.count, line.removable.count, line.kept_sites) == (8, 4, 4)
    assert {i.path for i in it.listing if i.reason is None} == {"news.example", "shop.example"}
    assert all(i.reason == "protected" for i in it.listing if "tickets" in i.path)
    ages = {i.path: (NOW - i.aged_from).days for i in it.listing if i.aged_from}
    assert ages == dict(zip(SITES, (0, 10, 20, 30), strict=True))
    assert fingerprints(home) == before, "not even a journal file is left behind"


@pytest.mark.parametrize("make", [chromium_profile, firefox_profile])
def test_agreed_sites_go_row_by_row_and_the_store_stays(home: Path, make) -> None:  # type: ignore[no-untyped-def]
    profile = make(home)
    it = bench(home)
    it.look("web-site-data", off=False, keep_for="P0D")
    outcome, cleaner = it.clean("web-site-data", agreed=list(it.listing))
    assert outcome.removed.count == 2
    assert {(s.reason, s.count) for s in outcome.left} == {("protected", 2)}
    store, sql = (
        (profile / "Network/Cookies", "SELECT host_key FROM cookies")
        if make is chromium_profile
        else (profile / "cookies.sqlite", "SELECT host FROM moz_cookies")
    )
    assert {host.lstrip(".") for host in column(store, sql)} == {
        "tickets.example", "www.tickets.example",
    }  # fmt: skip
    assert column(store, "PRAGMA integrity_check") == ["ok"]
    assert not cleaner.outcomes.problems


def test_an_open_browser_means_left_and_named(home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    profile = chromium_profile(home)
    it = bench(home)
    it.look("web-site-data", off=False, keep_for="P0D")
    listed = list(it.listing)
    in_use = it.machine.in_use()
    opened = type(in_use)(in_use.files, in_use.programs | {"chromium"})
    monkeypatch.setattr(it.machine, "in_use", lambda: opened)
    line = it.look("web-site-data", off=False, keep_for="P0D")
    assert line is not None
    assert (line.removable.count, line.programs_open) == (0, ("chromium",))
    outcome, cleaner = it.clean("web-site-data", agreed=listed)
    assert {(s.reason, s.count) for s in outcome.left} == {("program open", 2), ("protected", 2)}
    assert {left.path for left in cleaner.outcomes.named} == {"news.example", "shop.example"}
    assert len(column(profile / "Network/Cookies", "SELECT 1 FROM cookies")) == 4


def test_what_a_site_wrote_after_the_listing_is_not_covered(home: Path) -> None:
    profile = chromium_profile(home)
    it = bench(home)
    it.look("web-site-data", off=False, keep_for="P0D")
    with closing(sqlite3.connect(profile / "Network/Cookies")) as conn, conn:
        conn.execute(
            "INSERT INTO cookies VALUES (?, '.news.example', 'new', '', x'00', '/', ?)",
            (chromium(0), chromium(0)),
        )
    outcome, _ = it.clean("web-site-data", agreed=list(it.listing))
    assert {(s.reason, s.count) for s in outcome.left} == {("changed since", 1), ("protected", 2)}
    assert ".news.example" in column(profile / "Network/Cookies", "SELECT host_key FROM cookies")


def test_history_goes_by_site_and_bookmarks_stay(home: Path) -> None:
    firefox, chrome = firefox_profile(home), chromium_profile(home)
    it = bench(home)
    line = it.look("web-history", off=False, keep_for="P25D")
    assert line is not None and line.removable.count == 2
    it.clean("web-history", off=False, keep_for="P25D", standing=True)
    assert column(firefox / "places.sqlite", "SELECT place_id FROM moz_historyvisits") == [0, 1, 2]
    assert 3 in column(firefox / "places.sqlite", "SELECT id FROM moz_places"), "bookmarked"
    assert column(chrome / "History", "SELECT id FROM urls") == [0, 1, 2]
    assert column(chrome / "History", "SELECT url FROM visits") == [0, 1, 2]


@pytest.mark.parametrize(
    "content", [b"", b"not a database at all", b"SQLite format 3\0" + b"x" * 99]
)
def test_a_store_that_cannot_be_read_is_named(home: Path, content: bytes) -> None:
    profile = chromium_profile(home)
    (profile / "Network/Cookies").write_bytes(content)
    line = bench(home).look("web-site-data", off=False, keep_for="P0D")
    assert line is not None
    assert (line.total.count, line.unread_count) == (0, 1)
    assert "Cookies" in line.unread[0].path and "cannot be read" in line.unread[0].why


@pytest.mark.parametrize(
    ("host", "time"),
    [(b"\xff", 1), (None, 1), ("x.example", "text"), ("x.example", 1.5), ("x.example", b"1")],
)
def test_a_row_that_no_browser_writes_costs_its_own_store(
    home: Path, host: object, time: object
) -> None:
    profile = firefox_profile(home)
    chromium_profile(home)
    with closing(sqlite3.connect(profile / "cookies.sqlite")) as conn, conn:
        row = ("sid", "v", host, "/", time, time)
        conn.execute("INSERT INTO moz_cookies VALUES (99, ?, ?, ?, ?, ?, ?)", row)
    it = bench(home)
    line = it.look("web-site-data", off=False, keep_for="P0D")
    assert line is not None and line.total.count == len(SITES), "the other browser's"
    assert [unread.path.rpartition("/")[2] for unread in line.unread] == ["cookies.sqlite"]
    it.clean("web-site-data", off=False, keep_for="P0D", standing=True)
    assert len(column(profile / "cookies.sqlite", "SELECT id FROM moz_cookies")) == len(SITES) + 1


def test_a_store_behind_a_link_is_left_alone(home: Path, tmp_path: Path) -> None:
    profile = chromium_profile(home)
    elsewhere = tmp_path / "elsewhere"
    (profile / "Network/Cookies").rename(elsewhere)
    (profile / "Network/Cookies").symlink_to(elsewhere)
    line = bench(home).look("web-site-data", off=False, keep_for="P0D")
    assert line is not None and line.total.count == 0


@pytest.mark.parametrize("category", ["web-site-data", "web-history"])
def test_what_only_the_log_holds_keeps_its_site(home: Path, category: str) -> None:
    """A browser that was ended by force leaves a write-ahead log: a sign-in of a minute ago is in
    it alone, and the table says that the site was last used long ago."""
    profile = firefox_profile(home)
    name = "cookies.sqlite" if category == "web-site-data" else "places.sqlite"
    with closing(sqlite3.connect(profile / name)) as conn:
        conn.execute("PRAGMA journal_mode = WAL")
        conn.execute("PRAGMA wal_autocheckpoint = 0")
        with conn:
            if category == "web-site-data":
                conn.execute(
                    "INSERT INTO moz_cookies VALUES (99, 'sid', 'now', 'shop.example', '/', ?, ?)",
                    (unix(0), unix(0)),
                )
            else:
                conn.execute(
                    "UPDATE moz_places SET last_visit_date = ? WHERE url LIKE '%shop.example%'",
                    (unix(0),),
                )
        # as it lies there after the browser has died: the log was never written back
        kept = {
            path.name: path.read_bytes()
            for path in profile.iterdir() if path.name in (name, f"{name}-wal")
        }  # fmt: skip
    for left_behind, content in kept.items():
        (profile / left_behind).write_bytes(content)
    assert (profile / f"{name}-wal").stat().st_size > 0
    outcome, _ = bench(home).clean(category, standing=True, off=False, keep_for="P15D")
    left = {stay.reason: stay.count for stay in outcome.left}
    question = (
        "SELECT host FROM moz_cookies WHERE host = 'shop.example'"
        if category == "web-site-data"
        else "SELECT url FROM moz_places WHERE url LIKE '%shop.example%'"
    )
    assert column(profile / name, question), "what it was used for a minute ago stays"
    assert left[Reason.CHANGED] == 1 and outcome.removed.count >= 1

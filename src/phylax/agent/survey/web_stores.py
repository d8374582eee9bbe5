"""Browsers' own tables of cookies and visited pages: what they hold by site, and letting sites go.

Both browser families keep them in SQLite files. Rows go, the file stays; what is on the protect
list, and bookmarks, are never among the rows. Reading changes nothing, not even a journal file; so
it does not see what only a write-ahead log holds, which a browser that was ended by force leaves.
Where rows are deleted the log is read first, in the same transaction: a site with anything newer
than was shown stays.
"""

from __future__ import annotations

import json
import os
import sqlite3
import stat
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from urllib.parse import quote, urlsplit

from phylax.agent import files
from phylax.agent.survey.places import Place
from phylax.core.catalogue import Shape
from phylax.core.survey.file_stat import FileStat

_CHROMIUM_EPOCH = 11_644_473_600
"""Seconds from 1601-01-01, from which Chromium counts microseconds, to the Unix epoch."""


@dataclass(frozen=True)
class Site:
    """All rows of one site in one store."""

    host: str
    size: int
    """Bytes of the rows' contents."""
    last_used: int
    newest_ns: int
    """When the newest row was made, so that a yes does not cover what came later."""
    device: int
    file: int


@dataclass(frozen=True)
class _Table:
    """How one browser family writes one kind of row."""

    question: str
    """(host or address, bytes, last used, made), times as the browser counts them."""
    actions: tuple[str, ...]
    """Statements that let the rows of `:hosts` (a JSON list) go."""
    epoch: int = 0
    by_address: bool = False
    """Rows hold addresses, of which the host is a part."""


_HOST_IN = "ltrim(lower({0}), '.') IN (SELECT value FROM json_each(:hosts))"
_TABLES: dict[str, _Table] = {
    "Cookies": _Table(
        """
        SELECT host_key, length(CAST(name AS BLOB)) + length(CAST(value AS BLOB))
               + length(encrypted_value) + length(CAST(path AS BLOB)),
               last_access_utc, creation_utc FROM cookies
        """,
        (f"DELETE FROM cookies WHERE {_HOST_IN.format('host_key')}",),
        _CHROMIUM_EPOCH,
    ),
    "cookies.sqlite": _Table(
        """
        SELECT host, length(CAST(name AS BLOB)) + length(CAST(value AS BLOB))
               + length(CAST(path AS BLOB)), lastAccessed, creationTime FROM moz_cookies
        """,
        (f"DELETE FROM moz_cookies WHERE {_HOST_IN.format('host')}",),
    ),
    "History": _Table(
        """
        SELECT url, length(CAST(url AS BLOB)) + length(CAST(title AS BLOB)),
               last_visit_time, last_visit_time FROM urls
        """,
        (
            "DELETE FROM visits WHERE url IN (SELECT id FROM urls WHERE host_of(url) IN"
            " (SELECT value FROM json_each(:hosts)))",
            "DELETE FROM urls WHERE host_of(url) IN (SELECT value FROM json_each(:hosts))",
        ),
        _CHROMIUM_EPOCH,
        by_address=True,
    ),
    "places.sqlite": _Table(
        """
        SELECT url, length(CAST(url AS BLOB)) + length(CAST(coalesce(title, '') AS BLOB)),
               coalesce(last_visit_date, 0), coalesce(last_visit_date, 0) FROM moz_places
        WHERE id IN (SELECT place_id FROM moz_historyvisits)
        """,
        (
            "DELETE FROM moz_historyvisits WHERE place_id IN (SELECT id FROM moz_places WHERE"
            " host_of(url) IN (SELECT value FROM json_each(:hosts)))",
            # an address that a bookmark points to stays with it
            "DELETE FROM moz_places WHERE host_of(url) IN (SELECT value FROM json_each(:hosts))"
            " AND id NOT IN (SELECT fk FROM moz_bookmarks WHERE fk IS NOT NULL)",
        ),
        by_address=True,
    ),
}


def stores_in(place: Place, shape: Shape) -> Iterator[WebStore]:
    """The stores of a kind that lie in a browser's profile."""
    assert shape in ("sites", "visits")
    for name in place.names:
        store = WebStore(place, name)
        if store.is_there():
            yield store


class WebStore:
    """One browser profile's table of cookies or of visited pages."""

    def __init__(self, place: Place, name: str) -> None:
        self.name = name
        self._place = place
        self._table = _TABLES[name]

    def is_there(self) -> bool:
        return self._found() is not None

    def _found(self) -> FileStat | None:
        """The store's file, where it is one and lies in the place itself, not behind a link."""
        handle = self._place.open()
        try:
            st = files.look(self.name, handle)
        except FileNotFoundError:
            return None
        finally:
            files.close(handle)
        return st if stat.S_ISREG(st.st_mode) else None

    def sites(self) -> Iterator[Site]:
        """What the store holds by site. ValueError where it is not as expected."""
        st = self._found()
        if st is None:
            return
        try:
            with closing(self._connect("mode=ro&immutable=1")) as conn:
                sites = self._sites_in(conn, st)
        except sqlite3.Error as error:
            raise ValueError(f"{self.name} cannot be read: {error}") from error
        yield from (sites[host] for host in sorted(sites))

    def _sites_in(self, conn: sqlite3.Connection, of: FileStat) -> dict[str, Site]:
        sums: dict[str, list[int]] = {}
        for host, size, used, made in conn.execute(self._table.question):
            # SQLite keeps any type in any column, and who owns the profile may write it
            if not (isinstance(host, str) and isinstance(used, int) and isinstance(made, int)):
                raise sqlite3.DataError("a row is not as its browser writes it")
            site_sums = sums.setdefault(self._host(host), [0, 0, 0])
            site_sums[0] += size or 0
            site_sums[1] = max(site_sums[1], used // 10**6 - self._table.epoch)
            site_sums[2] = max(site_sums[2], (made - self._table.epoch * 10**6) * 1000)
        return {
            host: Site(host, size, max(used, 1), max(made, 0), of.st_dev, of.st_ino)
            for host, (size, used, made) in sums.items()
        }

    def forget(self, host: str, *, last_used: int, newest_ns: int) -> bool:
        """Delete the rows of a site, in one transaction with a look at what the store holds of it
        now, its log included. False, and nothing is deleted, where it was used since `last_used`
        (epoch seconds), or has a row that is newer than `newest_ns`. OSError where that fails."""
        st = self._found()
        if st is None:
            raise FileNotFoundError(2, "no such store", self.name)
        try:
            with closing(self._connect("mode=rw")) as conn, conn:
                # overwritten with zeros, as people who let history go expect
                conn.execute("PRAGMA secure_delete = ON")
                conn.execute("BEGIN IMMEDIATE")
                site = self._sites_in(conn, st).get(host)
                if site is None:
                    return True
                if site.last_used > last_used or site.newest_ns > newest_ns:
                    return False
                for action in self._table.actions:
                    conn.execute(action, {"hosts": json.dumps([host])})
        except sqlite3.Error as error:
            raise OSError(f"{self.name}: {error}") from error
        return True

    def _connect(self, how: str) -> sqlite3.Connection:
        path = quote(os.path.join(self._place.path, self.name))
        conn = sqlite3.connect(f"file:{path}?{how}", uri=True, timeout=0.5)
        conn.create_function("host_of", 1, _host_of, deterministic=True)
        return conn

    def _host(self, text: str) -> str:
        return _host_of(text) if self._table.by_address else text.lower().lstrip(".")


def _host_of(address: str) -> str:
    try:
        return (urlsplit(address).hostname or "").lower()
    except ValueError:
        return ""

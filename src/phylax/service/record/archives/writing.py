"""Writing an archive: a ZIP of JSON Lines and CSV, with a description of each file."""

from __future__ import annotations

import csv
import io
import json
import os
import zipfile
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from sqlite3 import Connection
from typing import Any

from phylax import __version__
from phylax.service.http.csv import cell
from phylax.service.record.archives import (
    describing,
)
from phylax.service.record.archives import (
    export_tables as lists,
)
from phylax.service.record.archives import (
    record_export as record_out,
)
from phylax.store.file import archive
from phylax.store.file.archive import Row

FORM = 1
SHOP, CLIENT, RECORD = "shop", "client", "record"
"""What an archive is of."""
_AS_FILES: dict[tuple[str, str], Callable[[Row], str]] = {
    ("attachments", "content"): lambda row: f"attachments/{row['id']}.{row['kind']}",
    ("reports", "pdf"): lambda row: f"reports/{row['id']}.pdf",
    ("letterhead", "mark"): lambda row: f"mark.{row['mark_kind'] or 'bin'}",
}
"""Bytes that people may want to open lie in files of their own."""


class Archive:
    """A ZIP that is being written, with the digest of each of its files."""

    def __init__(self, path: Path) -> None:
        file = os.fdopen(os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600), "w+b")
        self._file = file
        self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=6)
        self.files: dict[str, dict[str, Any]] = {}

    def add(self, name: str, content: bytes) -> None:
        self._add(name, [content])

    def add_lines(self, name: str, lines: Iterable[str]) -> int:
        """A text file; how many lines. Each gets a line's end."""
        return self._add(name, (f"{line}\n".encode() for line in lines))

    def _add(self, name: str, pieces: Iterable[bytes]) -> int:
        over, number = sha256(), 0
        with self._zip.open(name, "w", force_zip64=True) as opened:
            for piece in pieces:
                over.update(piece)
                opened.write(piece)
                number += 1
        self.files[name] = {"sha256": over.hexdigest(), "lines": number}
        return number

    def close(self, manifest: Mapping[str, Any]) -> None:
        text = json.dumps(dict(manifest) | {"files": self.files}, indent=1, ensure_ascii=False)
        self._zip.writestr("archive.json", text + "\n")
        self._zip.close()
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()

    def give_up(self) -> None:
        with suppress(OSError, ValueError):
            self._zip.close()
        self._file.close()


def write(conn: Connection, path: Path, of: str, *, at: datetime, client: int | None = None,
          proofs: Mapping[int, str] | None = None) -> None:  # fmt: skip
    """An archive of the whole shop, of one client, or of the record alone. `conn` reads within one
    transaction. OSError where it cannot be written; half of one is not left behind."""
    made = Archive(path)
    try:
        _write(conn, made, of, at, client, proofs or {})
    except BaseException:
        made.give_up()
        path.unlink(missing_ok=True)
        raise


def _write(conn: Connection, made: Archive, of: str, at: datetime, client: int | None,
           proofs: Mapping[int, str]) -> None:  # fmt: skip
    tables = [] if of == RECORD else archive.leaving(client)
    for table in tables:
        if archive.has_rows(conn, table, client):
            made.add_lines(f"tables/{table}.jsonl", _lines(conn, made, table, client))
    if of != RECORD:
        for name, heading, rows in lists.lists(conn, client):
            made.add(f"lists/{name}.csv", _csv(heading, rows))
    for name, lines in record_out.files(conn, client):
        made.add_lines(f"record/{name}", lines)
    for entry, proof in proofs.items():
        made.add(f"record/proofs/{entry}.txt", proof.encode())
    made.add("columns.csv", _csv(*describing.columns(conn, tables)))
    made.add("README.md", describing.readme(of, tables, made.files).encode())
    made.close(_manifest(conn, of, at, client))


def _manifest(conn: Connection, of: str, at: datetime, client: int | None) -> dict[str, Any]:
    here = conn.execute("SELECT name, uid FROM shop").fetchone()
    return {
        "phylax": "archive",
        "form": FORM,
        "of": of,
        "client": client,
        "shop": here["name"],
        "uid": here["uid"],
        "schema": conn.execute("PRAGMA user_version").fetchone()[0],
        "numbers": archive.highest_numbers(conn),
        "written_by": f"Phylax {__version__}",
        "written_at": f"{at:%Y-%m-%dT%H:%M:%SZ}",
    }


def _lines(conn: Connection, made: Archive, table: str, client: int | None) -> Iterable[str]:
    """A table's rows; files that belong to them are put in beside, before: a ZIP takes one file
    after the other."""
    beside: list[tuple[str, bytes]] = []

    def bytes_out(name: str, row: Row, column: str, content: bytes) -> Any:
        if (name, column) not in _AS_FILES:
            return archive.in_base64(name, row, column, content)
        file = f"files/{_AS_FILES[name, column](row)}"
        beside.append((file, content))
        return {"file": file}

    lines = (_line(row) for row in archive.rows(conn, table, client, bytes_out))
    if all(table != name for name, _ in _AS_FILES):
        return lines
    kept = []
    for line in lines:
        kept.append(line)
        for file, content in beside:
            made.add(file, content)
        beside.clear()
    return kept


def _line(row: Row) -> str:
    return json.dumps(row, ensure_ascii=False, separators=(",", ":"))


def _csv(heading: Iterable[str], rows: Iterable[Iterable[object]]) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(heading)
    writer.writerows([cell(value) for value in row] for row in rows)
    return text.getvalue().encode("utf-8", "replace")

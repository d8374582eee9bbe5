"""A shop built anew from an archive, in a data directory that has none.

Nothing of an archive is believed: names, sizes and digests of its files are looked at before, and
the record's chain, the audit's and every reference after. Only when all of it is in order does the
new shop's file take its name.
"""

from __future__ import annotations

import json
import os
import sqlite3
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import closing
from hashlib import sha256
from pathlib import Path
from typing import IO, Any, NamedTuple

from phylax.core.ground.values import to_seconds
from phylax.service.context.context import system_clock
from phylax.service.record.archives.writing import FORM, SHOP
from phylax.store.backups import copies, restore_epoch
from phylax.store.backups.copies import BadCopyError
from phylax.store.erasing.whole import again
from phylax.store.file import archive
from phylax.store.file.archive import BadRowError
from phylax.store.file.data_map import table_named
from phylax.store.file.database import Database, migrations
from phylax.store.file.shop_file import FILE
from phylax.store.record import audit

_LONGEST_MANIFEST = 8 << 20
_LONGEST_LINE = 64 << 20
_MOST_FILES = 1_000_000
_PACKED = 300
"""No text of ours is packed smaller than by this factor, but for a little."""
_LITTLE = 16 << 20


class BadArchiveError(Exception):
    """It is no archive of a shop that could be loaded, and says why."""


class Loaded(NamedTuple):
    """What came of it."""

    shop: str
    written_at: str
    rows: int
    entries: int
    intact_audit: bool


def load(data: Path, file: Path) -> Loaded:
    """BadArchiveError, FileExistsError where there is a shop already, OSError."""
    target = data / FILE
    if target.exists():
        raise FileExistsError(f"There is a shop in {data} already.")
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    part = data / f"{FILE}.loading"
    _clear(part)
    try:
        with zipfile.ZipFile(file) as opened:
            loaded = _load(part, opened, [data, file.parent])
        copies.to_disk(part)
        _take_its_name(part, target)
    except (
        zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError, zlib.error
    ) as error:  # fmt: skip
        raise BadArchiveError(f"it is no whole ZIP: {error}") from error
    finally:
        _clear(part)
    copies.to_disk(data)
    return loaded


def _take_its_name(part: Path, target: Path) -> None:
    """Never over a shop that was opened meanwhile."""
    try:
        os.link(part, target)
    except FileExistsError:
        raise
    except OSError:
        # not every file system has links
        if target.exists():
            raise FileExistsError(f"There is a shop in {target.parent} already.") from None
        os.replace(part, target)


def _clear(part: Path) -> None:
    for path in part.parent.glob(f"{part.name}*"):
        path.unlink()


def _load(part: Path, opened: zipfile.ZipFile, known_in: Sequence[Path]) -> Loaded:
    manifest = _manifest(opened)
    now = system_clock()
    _fill(part, opened, manifest)
    # from here on as a file of an earlier version is: brought up to date when it is opened
    database = Database(part)
    try:
        with database.write() as conn:
            archive.index_anew(conn)
            archive.settle(conn, at=to_seconds(now))
            restore_epoch.renew(conn, at=to_seconds(now))
            intact = audit.verify(conn).intact
            rows = sum(
                conn.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
                for table in archive.leaving(None)
            )
            audit.record(
                conn, who="the service's machine", at=to_seconds(now), action="load",
                subject=f"an archive of {manifest['written_at']}, {rows} rows",
            )  # fmt: skip
        again(database, known_in, at=to_seconds(now))
    except sqlite3.Error as error:
        raise BadArchiveError(f"the shop cannot be built from it: {error}") from error
    finally:
        database.close()
    with closing(sqlite3.connect(part)) as conn:
        conn.execute("PRAGMA journal_mode = DELETE")
    try:
        checked = copies.check(part)
    except BadCopyError as error:
        raise BadArchiveError(str(error)) from error
    return Loaded(checked.shop, manifest["written_at"], rows, checked.entries, intact)


def _fill(part: Path, opened: zipfile.ZipFile, manifest: dict[str, Any]) -> None:
    """All rows, into a file of the schema that they were written from."""
    database = Database(part, schema=manifest["schema"])
    try:
        # looked at as a whole at the end
        with database.write(check_references=False) as conn:
            archive.empty(conn)
            with archive.without_triggers(conn):
                for name in _tables(manifest):
                    try:
                        archive.put(conn, name, _rows(opened, manifest, f"tables/{name}.jsonl"))
                    except BadRowError as error:
                        raise BadArchiveError(f"tables/{name}.jsonl: {error}") from error
            archive.go_on_from(conn, _numbers(manifest))
            if broken := conn.execute("PRAGMA foreign_key_check").fetchone():
                raise BadArchiveError(f"a row of {broken[0]} names one of {broken[2]} that is gone")
    except sqlite3.Error as error:
        raise BadArchiveError(f"the shop cannot be built from it: {error}") from error
    finally:
        database.close()


def _numbers(manifest: dict[str, Any]) -> dict[str, int]:
    numbers = manifest.get("numbers", {})
    if not isinstance(numbers, dict) or not all(
        table_named(name) and type(number) is int and 0 <= number < 2**62
        for name, number in numbers.items()
    ):
        raise BadArchiveError("its archive.json says odd numbers")
    return numbers


def _tables(manifest: dict[str, Any]) -> list[str]:
    names = []
    for file in manifest["files"]:
        if file.startswith("tables/"):
            name = file.removeprefix("tables/").removesuffix(".jsonl")
            table = table_named(name)
            if table is None or not table.leaves:
                raise BadArchiveError(f"{file} is of no table that this Phylax knows")
            names.append(name)
    return names


def _manifest(opened: zipfile.ZipFile) -> dict[str, Any]:
    if len(opened.namelist()) > _MOST_FILES:
        raise BadArchiveError("it has more files than an archive of a shop")
    try:
        info = opened.getinfo("archive.json")
        if info.file_size > _LONGEST_MANIFEST:
            raise BadArchiveError("its archive.json is too long")
        manifest = json.loads(opened.read(info))
    except (KeyError, ValueError, RecursionError) as error:
        raise BadArchiveError("it has no archive.json that could be read") from error
    if not isinstance(manifest, dict) or manifest.get("phylax") != "archive":
        raise BadArchiveError("its archive.json is not one of Phylax")
    if manifest.get("form") != FORM:
        raise BadArchiveError("it is of a form that a newer Phylax wrote: load it with that one")
    if manifest.get("of") != SHOP:
        raise BadArchiveError("it is not of a whole shop: 'phylax shop archive' writes one")
    newest = migrations()[-1][0]
    schema, files = manifest.get("schema"), manifest.get("files")
    if not isinstance(schema, int) or not 0 < schema <= newest:
        raise BadArchiveError(f"it has schema {schema}; this Phylax knows 1 to {newest}")
    if not isinstance(files, dict) or not isinstance(manifest.get("written_at"), str):
        raise BadArchiveError("its archive.json says too little")
    _check_files(opened, files)
    return manifest


def _check_files(opened: zipfile.ZipFile, files: dict[str, Any]) -> None:
    """Each is there once, whole, and what was written."""
    names = opened.namelist()
    if len(set(names)) != len(names):
        raise BadArchiveError("a file is in it twice")
    for name, said in files.items():
        try:
            info = opened.getinfo(name)
            wanted = said["sha256"]
        except (KeyError, TypeError) as error:
            raise BadArchiveError(f"{name} is missing") from error
        if info.file_size > _PACKED * info.compress_size + _LITTLE:
            raise BadArchiveError(f"{name} unfolds to far more than it should")
        over = sha256()
        with opened.open(info) as file:
            while piece := file.read(1 << 20):
                over.update(piece)
        if over.hexdigest() != wanted:
            raise BadArchiveError(f"{name} is not what was written: it was altered or cut off")


def _rows(opened: zipfile.ZipFile, manifest: dict[str, Any], name: str) -> Iterator[dict[str, Any]]:
    with opened.open(name) as file:
        for number, line in enumerate(_lines(file), 1):
            try:
                row = json.loads(line)
            except (ValueError, RecursionError) as error:
                raise BadRowError(f"line {number} is no JSON") from error
            if not isinstance(row, dict):
                raise BadRowError(f"line {number} is no row")
            yield {column: _from_file(opened, manifest, value) for column, value in row.items()}


def _lines(file: IO[bytes]) -> Iterator[bytes]:
    while line := file.readline(_LONGEST_LINE):
        if len(line) == _LONGEST_LINE:
            raise BadRowError("a line is too long")
        yield line


def _from_file(opened: zipfile.ZipFile, manifest: dict[str, Any], value: Any) -> Any:
    """Bytes that lie in a file of the archive."""
    if not isinstance(value, dict) or "file" not in value:
        return value
    if value["file"] not in manifest["files"]:
        raise BadRowError(f"the file {value['file']!r} is not in the archive")
    return opened.read(value["file"])

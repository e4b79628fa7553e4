"""Where Millrace keeps its tables: columns in files, and a catalogue that says which of them count.

A table is a set of numbered chunks, each a file that is never changed. All changes of a transaction
become true with one commit of the catalogue.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.feather as feather

from splarn.core.layout import Layout
from splarn.core.layout.descriptor import from_descriptor
from splarn.core.target.digest import ColumnDigest, add_digests, digest_table

_SCHEMA = """
CREATE TABLE IF NOT EXISTS tables (name TEXT PRIMARY KEY, layout TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS chunks (
    id INTEGER PRIMARY KEY AUTOINCREMENT, within TEXT NOT NULL, file TEXT NOT NULL,
    rows INTEGER NOT NULL
);
CREATE INDEX IF NOT EXISTS chunks_within ON chunks (within);
CREATE TABLE IF NOT EXISTS loads (
    number INTEGER PRIMARY KEY, load_id TEXT UNIQUE NOT NULL, into_table TEXT NOT NULL,
    state TEXT NOT NULL, mode TEXT NOT NULL, started TEXT NOT NULL, details TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS parts (
    load_id TEXT NOT NULL, part_id TEXT NOT NULL, name TEXT NOT NULL, state TEXT NOT NULL,
    position INTEGER NOT NULL, rows INTEGER NOT NULL, refused INTEGER NOT NULL, marks TEXT NOT NULL,
    PRIMARY KEY (load_id, part_id)
);
CREATE TABLE IF NOT EXISTS part_jobs (
    number INTEGER PRIMARY KEY, load_id TEXT NOT NULL, part_id TEXT NOT NULL, name TEXT NOT NULL,
    state TEXT NOT NULL, waiting REAL, begun REAL, ended REAL, bytes INTEGER NOT NULL,
    rows INTEGER NOT NULL, refused INTEGER NOT NULL, error TEXT NOT NULL, faults TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS jobs_load ON part_jobs (load_id);
"""


class NoSuch(Exception):
    """A table, or what a note was, is not there; the message says which."""


class Store:
    """The tables in a folder. One transaction at a time; a reader sees no half of another's."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._lock = threading.RLock()
        self._catalogue = sqlite3.connect(
            folder / "catalogue.sqlite", check_same_thread=False, isolation_level=None
        )
        self._catalogue.executescript("PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL;")
        self._catalogue.executescript(_SCHEMA)
        self._gone: list[str] = []
        kept = {file for (file,) in self._catalogue.execute("SELECT file FROM chunks")}
        for path in folder.glob("*.arrow"):
            if path.name not in kept:
                path.unlink()

    def close(self) -> None:
        """Closes the catalogue."""
        with self._lock:
            self._catalogue.close()

    @contextmanager
    def transaction(self, commit: bool = True) -> Iterator[sqlite3.Connection]:
        """One transaction; without `commit` nothing of it stays."""
        with self._lock:
            self._catalogue.execute("BEGIN IMMEDIATE")
            self._gone = []
            try:
                yield self._catalogue
            except BaseException:
                self._catalogue.execute("ROLLBACK")
                raise
            self._catalogue.execute("COMMIT" if commit else "ROLLBACK")
            if commit:
                self._sweep()

    def steps(self, steps: Sequence[dict[str, Any]], commit: bool) -> Any:
        """Does steps, each a verb and what it needs; returns what the last one found.

        Raises NoSuch for what is not there, KeyError or TypeError for a step that is none.
        """
        answer = None
        with self.transaction(commit):
            for step in steps:
                given = dict(step)
                answer = self._verbs[given.pop("do")](self, **given)
        return answer

    def rows(self, table: str) -> int:
        """Rows in a table, 0 where there is none."""
        with self._lock:
            return int(self._rows("", table))

    def layout(self, table: str) -> Layout | None:
        """What a table was made from."""
        row = self._one("SELECT layout FROM tables WHERE name = ?", table)
        return None if row is None else from_descriptor(json.loads(row[0]), table)

    def chunks(self, table: str) -> list[list[int]]:
        """Number and rows of each chunk of a table. Raises NoSuch where there is no table."""
        self._need(table)
        return self._all("SELECT id, rows FROM chunks WHERE within = ? ORDER BY id", table)

    def chunk(self, number: int) -> bytes:
        """A chunk as the file that it is. Raises NoSuch where it is no longer there."""
        row = self._one("SELECT file FROM chunks WHERE id = ?", number)
        path = None if row is None else self.folder / row[0]
        if path is None or not path.is_file():
            raise NoSuch(f"there is no chunk {number} any more")
        return bytes(path.read_bytes())

    def write(self, name: str, rows: pa.Table) -> str:
        """Writes the columns of a chunk that counts only once it is added; returns its file."""
        file = f"{name}.arrow"
        feather.write_feather(rows, str(self.folder / file), compression="lz4")
        return file

    def add(self, table: str, file: str, rows: int) -> int:
        """Lets a written chunk count, in the open transaction; its number."""
        self._need(table)
        run = self._catalogue.execute(
            "INSERT INTO chunks (within, file, rows) VALUES (?, ?, ?)", (table, file, rows)
        )
        return int(run.lastrowid or 0)

    # The verbs of a transaction.

    def _columns(self, table: str) -> Any:
        row = self._one("SELECT layout FROM tables WHERE name = ?", table)
        return None if row is None else json.loads(row[0])

    def _create(self, table: str, layout: dict[str, Any]) -> None:
        from_descriptor(layout, table)
        self._run("INSERT INTO tables VALUES (?, ?)", table, json.dumps(layout))

    def _clone(self, table: str, copy: str) -> None:
        self._need(table)
        self._run("INSERT INTO tables SELECT ?, layout FROM tables WHERE name = ?", copy, table)

    def _drop(self, table: str) -> None:
        self._empty(table)
        self._run("DELETE FROM tables WHERE name = ?", table)

    def _swap(self, table: str, side_table: str, before: str) -> None:
        for now, then in ((table, before), (side_table, table)):
            self._need(now)
            self._run("UPDATE tables SET name = ? WHERE name = ?", then, now)
            self._run("UPDATE chunks SET within = ? WHERE within = ?", then, now)

    def _empty(self, table: str) -> None:
        self._remove(table, [[0, 1 << 62]])

    def _remove(self, table: str, marks: list[list[int]]) -> int:
        where, values = _within(table, marks)
        removed = self._all(f"SELECT file, rows FROM chunks WHERE {where}", *values)
        self._run(f"DELETE FROM chunks WHERE {where}", *values)
        self._gone += [file for file, _ in removed]
        return sum(rows for _, rows in removed)

    def _pour(self, source: str, into: str) -> dict[str, Any]:
        self._need(source)
        self._need(into)
        marks, total = [], 0
        for file, rows in self._all(
            "SELECT file, rows FROM chunks WHERE within = ? ORDER BY id", source
        ):
            number = self.add(into, file, rows)
            marks.append([number, number])
            total += rows
        return {"rows": total, "marks": marks}

    def _rows(self, prefix: str, table: str, marks: list[list[int]] | None = None) -> int:
        where, values = _within(table, marks)
        (total,) = self._all(f"SELECT coalesce(sum(rows), 0) FROM chunks WHERE {where}", *values)
        return int(total[0])

    def _count(self, table: str, marks: list[list[int]] | None = None) -> int:
        self._need(table)
        return self._rows("", table, marks)

    def _digest(
        self, table: str, layout: dict[str, Any], marks: list[list[int]] | None = None
    ) -> list[dict[str, Any]]:
        self._need(table)
        fields = from_descriptor(layout, table).fields
        total: list[ColumnDigest] | None = None
        where, values = _within(table, marks)
        for (file,) in self._all(f"SELECT file FROM chunks WHERE {where} ORDER BY id", *values):
            names = [field.name for field in fields]
            rows = feather.read_table(str(self.folder / file), columns=names)
            total = add_digests(total, digest_table(rows, fields))
        return [asdict(one) for one in total or [ColumnDigest(field.name) for field in fields]]

    def _loads(self, table: str | None = None) -> list[list[Any]]:
        return self._all(
            "SELECT load_id, into_table, state, mode, started, details FROM loads"
            " WHERE ? IS NULL OR into_table = ? ORDER BY number", table, table,
        )  # fmt: skip

    def _note_load(self, note: list[str]) -> None:
        self._run(
            "INSERT INTO loads (load_id, into_table, state, mode, started, details)"
            " VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (load_id) DO UPDATE SET"
            " state = excluded.state, details = excluded.details", *note,
        )  # fmt: skip

    def _parts(self, load_ids: list[str]) -> list[list[Any]]:
        marks = ", ".join("?" * len(load_ids))
        return self._all(
            "SELECT load_id, part_id, name, state, position, rows, refused, marks FROM parts"
            f" WHERE load_id IN ({marks}) ORDER BY rowid", *load_ids,
        )  # fmt: skip

    def _note_part(self, note: list[Any]) -> None:
        self._run("INSERT INTO parts VALUES (?, ?, ?, ?, ?, ?, ?, ?)", *note)

    def advance(self, was: list[Any], now: list[Any]) -> None:
        """Moves a part's note on, in the open transaction. Raises NoSuch when it is another."""
        run = self._catalogue.execute(
            "UPDATE parts SET state = ?, position = ?, rows = ?, refused = ?, marks = ?"
            " WHERE load_id = ? AND part_id = ? AND state = ? AND position = ? AND rows = ?"
            " AND refused = ?", (*now[3:], *was[:2], *was[3:7]),
        )  # fmt: skip
        if run.rowcount != 1:
            raise NoSuch(f"the note of {was[2]} is no longer what it was")

    def _forget(self, table: str) -> None:
        ids = [load_id for (load_id, *_) in self._loads(table)]
        for load_id in ids:
            for kind in ("loads", "parts", "part_jobs"):
                self._run(f"DELETE FROM {kind} WHERE load_id = ?", load_id)

    _verbs: dict[str, Callable[..., Any]] = {  # noqa: RUF012
        "columns": _columns,
        "create": _create,
        "clone": _clone,
        "drop": _drop,
        "swap": _swap,
        "empty": _empty,
        "remove": _remove,
        "pour": _pour,
        "count": _count,
        "digest": _digest,
        "loads": _loads,
        "note_load": _note_load,
        "parts": _parts,
        "note_part": _note_part,
        "advance": advance,
        "forget": _forget,
    }

    def _need(self, table: str) -> None:
        if self._one("SELECT 1 FROM tables WHERE name = ?", table) is None:
            raise NoSuch(f"there is no table {table}")

    def _run(self, statement: str, *values: Any) -> None:
        self._catalogue.execute(statement, values)

    def _all(self, statement: str, *values: Any) -> list[Any]:
        return [list(row) for row in self._catalogue.execute(statement, values)]

    def _one(self, statement: str, *values: Any) -> Any:
        with self._lock:
            return self._catalogue.execute(statement, values).fetchone()

    def _sweep(self) -> None:
        """Removes the files of chunks that are in no table any more."""
        for file in dict.fromkeys(self._gone):
            if self._one("SELECT 1 FROM chunks WHERE file = ?", file) is None:
                (self.folder / file).unlink(missing_ok=True)


def _within(table: str, marks: list[list[int]] | None) -> tuple[str, list[Any]]:
    """The condition for a table's chunks, or for those of some numbers, and its values."""
    if marks is None:
        return "within = ?", [table]
    ranges = " OR ".join("id BETWEEN ? AND ?" for _ in marks) or "0"
    return f"within = ? AND ({ranges})", [table, *(n for pair in marks for n in pair)]

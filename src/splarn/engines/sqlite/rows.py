"""SQLite's rows: batches are held back and stored under the write lock."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from splarn.core.layout import Layout
from splarn.core.reading.parsed import Parsed
from splarn.core.target.marks import Marks
from splarn.core.target.notes import Claims
from splarn.core.target.tables import Tables, Writer
from splarn.core.work.stages import stage
from splarn.engines.sql.link import Link
from splarn.engines.sql.rows import SqlRows, between
from splarn.engines.sqlite.locking import stop_reading
from splarn.engines.sqlite.stored import StoredColumn, TableShape, stored_column

# Names of the databases in memory that one transaction can take rows from.
IMAGES = tuple(f"splarn_{number}" for number in range(1, 9))

# Rows held back before the write lock is taken, so that other streams can write meanwhile.
HOLD_ROWS = 200_000


class SqliteRows(SqlRows):
    """Rows, which are marked by their numbers."""

    def __init__(self, link: Link, tables: Tables, claims: Claims) -> None:
        super().__init__(link, tables)
        self.claims = claims
        self._attached = False
        self._is_utf8: bool | None = None

    def within(self, table: str, marks: Marks) -> str:
        """See Rows."""
        return between("_rowid_", marks)

    def stored_as(self, table: str, names: Sequence[str]) -> TableShape:
        """How rows with these columns are stored."""
        declared = self.link.run(f"PRAGMA table_info({self.link.quoted(table)})").rows
        stop_reading(self.link)
        columns = [StoredColumn(row[1], row[2], bool(row[3])) for row in declared]
        return TableShape(self.link.quoted(table), columns, names)

    @property
    def is_utf8(self) -> bool:
        """Whether the file keeps text as databases in memory do, which have UTF-8."""
        if self._is_utf8 is None:
            self._is_utf8 = self.link.run("PRAGMA encoding").value == "UTF-8"
        return self._is_utf8

    def open_image(self, name: str, made: bytes) -> None:
        """Opens a database in memory beside the file."""
        driver = self.link.driver
        if not self._attached:
            self.link.rollback()
            for free in IMAGES:
                driver.execute(f"ATTACH ':memory:' AS {free}")
            self._attached = True
        driver.deserialize(made, name=name)

    def last_row(self, table: str) -> int | None:
        """The highest row number, 0 without rows; None for tables without row numbers."""
        try:
            answer = self.link.driver.execute(f"SELECT max(_rowid_) FROM {self.link.quoted(table)}")
        except sqlite3.OperationalError:
            return None
        return int(answer.fetchone()[0] or 0)

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows. Not where a column of the source is the row number, or there is none."""
        declared = self.link.run(f"PRAGMA table_info({self.link.quoted(table)})").rows
        keys = [row for row in declared if row[5]]
        numbering = len(keys) == 1 and keys[0][2].upper() == "INTEGER"
        return self.last_row(table) is not None and not (numbering and keys[0][1] in names)

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """See Rows. Rows that are numbered one after the other have these as marks."""
        before = self.last_row(table)
        rows, _ = super().marking(table, names, statement)
        return rows, self.marks_since(table, before, rows)

    def marks_since(self, table: str, before: int | None, rows: int) -> Marks | None:
        """The marks of the rows added after `before` was the last number."""
        if not rows:
            return ()
        last = self.last_row(table)
        if before is None or last is None or last - before != rows:
            return None
        return ((before + 1, last),)

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows."""
        return SqliteWriter(self, table, names)


class SqliteWriter:
    """Holds a batch back, then stores it under the write lock, as images where that can be."""

    def __init__(self, rows: SqliteRows, table: str, names: Sequence[str]) -> None:
        self.into = rows
        self.table = table
        self.shape = rows.stored_as(table, names)
        self.held: list[Any] = []
        self.rows = self.stored = self.images = 0
        self.locked = False
        self.before: int | None = None

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        self.held.append(parsed.table.slice(start, stop - start).select(self.shape.names))
        self.rows += stop - start
        if self.rows >= HOLD_ROWS:
            self._insert()

    def close(self) -> Marks | None:
        """See Writer."""
        self._insert()
        return self.into.marks_since(self.table, self.before, self.stored)

    def _insert(self) -> None:
        made = None
        if self.rows and self.images < len(IMAGES) and self.into.is_utf8:
            with stage("encode"):
                made = self.shape.image(pa.concat_tables(self.held))
        with self.into.link.failing("Writing to", self.table):
            if made is not None:
                self.into.open_image(IMAGES[self.images], made)
            if not self.locked:
                # Waits for its turn; a deferred transaction would fail instead.
                self.into.claims.take_turn(self.table)
                self.locked = True
                self.before = self.into.last_row(self.table)
            cursor: sqlite3.Cursor = self.into.link.driver.cursor()
            if made is not None:
                cursor.execute(self.shape.move_from(IMAGES[self.images]))
                self.images += 1
            else:
                for rows in self.held:
                    columns = [stored_column(column).to_pylist() for column in rows.columns]
                    cursor.executemany(self.shape.insert, zip(*columns, strict=True))
            cursor.close()
        self.stored += self.rows
        self.held, self.rows = [], 0

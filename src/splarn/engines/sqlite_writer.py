"""One batch for SQLite, held back and stored under the write lock."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from splarn.core.marks import Marks
from splarn.core.reading.parsed import Parsed
from splarn.engines.sqlite_rows import stored_column

if TYPE_CHECKING:
    from splarn.engines.sqlite import SqliteSession

# Names of the databases in memory that one transaction can take rows from.
IMAGES = tuple(f"splarn_{number}" for number in range(1, 9))

# Rows held back before the write lock is taken, so that other streams can write meanwhile.
HOLD_ROWS = 200_000


class SqliteWriter:
    """Holds a batch back, then stores it under the write lock, as images where that can be."""

    def __init__(self, session: SqliteSession, table: str, names: Sequence[str]) -> None:
        self.session = session
        self.table = table
        self.shape = session.shape(table, names)
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
        return self.session.marks_since(self.table, self.before, self.stored)

    def _insert(self) -> None:
        made = None
        if self.rows and self.images < len(IMAGES):
            made = self.shape.image(pa.concat_tables(self.held))
        with self.session.failing("Writing to", self.table):
            if made is not None:
                self.session.open_image(IMAGES[self.images], made)
            if not self.locked:
                # Waits for its turn; a deferred transaction would fail instead.
                self.session.lock(self.table)
                self.locked = True
                self.before = self.session.last_row(self.table)
            cursor: sqlite3.Cursor = self.session.driver_connection.cursor()
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

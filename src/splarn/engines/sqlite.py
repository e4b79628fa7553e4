"""SQLite: many rows a statement through the standard library's driver, one writer at a time."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.engine import Writer
from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.typed import Parsed
from splarn.engines.base import SqlEngine, SqlSession

LOCK_WAIT = 120
# Rows held back before the write lock is taken, so that other streams can write meanwhile.
HOLD_ROWS = 200_000


class SqliteEngine(SqlEngine):
    """A database file, relative to the current folder."""

    name = "sqlite"
    driver = "pysqlite"

    def _make_engine(self) -> sa.Engine:
        database = self.url.database
        if not database or database == ":memory:":
            raise RequestError(
                "An SQLite target needs a file that several streams can open: write it like "
                "sqlite:///larkmere.db."
            )
        if not Path(database).parent.is_dir():
            raise RequestError(
                f"The folder of {self.place} does not exist: make it or name another place."
            )
        engine = sa.create_engine(
            self.url, poolclass=sa.NullPool, connect_args={"timeout": LOCK_WAIT}
        )

        @sa.event.listens_for(engine, "connect")
        def plain_transactions(connection: Any, _record: Any) -> None:
            # The driver must not begin and commit on its own.
            connection.isolation_level = None

        @sa.event.listens_for(engine, "begin")
        def begin(connection: Connection) -> None:
            connection.exec_driver_sql("BEGIN")

        return engine

    def _session(self, connection: Connection) -> SqliteSession:
        session = SqliteSession(self, connection)
        # A file that is no database says so only when it is read.
        connection.exec_driver_sql("SELECT count(*) FROM sqlite_master")
        connection.rollback()
        return session


class SqliteSession(SqlSession):
    """One connection to the file."""

    def writer(self, table: str, layout: Layout) -> Writer:
        """See Session."""
        return SqliteWriter(self, table, layout)

    def summed(self, column: str, field: Field) -> str:
        """See SqlSession."""
        if field.is_decimal:
            # Decimals are stored as floats; summed as whole numbers they cannot drift.
            return f"CAST(round({column} * {10 ** (field.scale or 0)}) AS INTEGER)"
        if field.type == "string":
            return f"length({column})"
        if field.type == "datetime":
            return f"CAST(strftime('%s', {column}) AS INTEGER)"
        if field.type == "date":
            return f"CAST(strftime('%s', {column}) AS INTEGER) / 86400"
        if field.type == "time":
            return f"CAST(strftime('%s', '1970-01-01 ' || {column}) AS INTEGER)"
        return column

    def ordered(self, column: str, field: Field) -> str:
        """See SqlSession. Dates and times are ISO 8601 text, which orders as they do."""
        if field.is_decimal:
            return self.summed(column, field)
        return column

    def quoted(self, name: str, dotted: bool = True) -> str:
        """SQLite has no schemas here: a dot is part of the name."""
        return super().quoted(name, dotted=False)


class SqliteWriter:
    """Holds rows back as columns of Python values, then inserts them under the write lock."""

    def __init__(self, session: SqliteSession, table: str, layout: Layout) -> None:
        self.session = session
        self.table = table
        names = ", ".join(session.quoted(name) for name in layout.names)
        marks = ", ".join("?" * len(layout.fields))
        self.statement = f"INSERT INTO {session.quoted(table)} ({names}) VALUES ({marks})"
        self.held: list[list[list[Any]]] = []
        self.rows = 0
        self.locked = False

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        self.held.append(_python_columns(parsed.table.slice(start, stop - start)))
        self.rows += stop - start
        if self.rows >= HOLD_ROWS:
            self._insert()

    def close(self) -> None:
        """See Writer."""
        self._insert()

    def _insert(self) -> None:
        with self.session.failing("Writing to", self.table):
            if not self.locked:
                self._lock()
            cursor: sqlite3.Cursor = self.session.driver_connection.cursor()
            for columns in self.held:
                cursor.executemany(self.statement, zip(*columns, strict=True))
            cursor.close()
        self.held, self.rows = [], 0

    def _lock(self) -> None:
        # BEGIN IMMEDIATE waits for its turn; a deferred transaction would fail instead.
        connection = self.session.connection
        if connection.in_transaction():
            connection.rollback()
        connection.begin()
        driver = self.session.driver_connection
        driver.execute("COMMIT")
        driver.execute("BEGIN IMMEDIATE")
        self.locked = True


def _python_columns(table: Any) -> list[list[Any]]:
    return [_python_values(column) for column in table.columns]


def _python_values(column: Any) -> list[Any]:
    """Values as SQLite stores them: numbers, and dates and times as ISO 8601 text."""
    kind = column.type
    if pa.types.is_decimal(kind):
        column = column.cast(pa.float64())
    elif pa.types.is_timestamp(kind):
        column = _stamp_text(column)
    elif pa.types.is_date(kind) or pa.types.is_time(kind):
        column = column.cast(pa.string())
    elif pa.types.is_boolean(kind):
        column = column.cast(pa.int8())
    values: list[Any]
    if column.null_count == 0 and not pa.types.is_string(column.type):
        values = column.to_numpy().tolist()
    else:
        values = column.to_pylist()
    return values


def _stamp_text(column: Any) -> Any:
    """Datetimes as text with no more digits after the second than they need."""
    if not pc.any(pc.not_equal(pc.microsecond(column), 0)).as_py() and not _has_millis(column):
        column = column.cast(pa.timestamp("s"))
    return column.cast(pa.string())


def _has_millis(column: Any) -> bool:
    return bool(pc.any(pc.not_equal(pc.millisecond(column), 0)).as_py())

"""SQLite: many rows a statement through the standard library's driver, one writer at a time."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.digest import ColumnDigest, scaled
from splarn.core.engine import TableColumn, TableIndex, Writer
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.core.reading.parsed import Parsed
from splarn.engines.base import SqlEngine, SqlSession
from splarn.engines.tables import FileTables

LOCK_WAIT = 120
# Decimal digits that a double keeps whatever they are.
FLOAT_DIGITS = 15
LONG_DECIMAL = "DECIMAL_TEXT"
# Rows held back before the write lock is taken, so that other streams can write meanwhile.
HOLD_ROWS = 200_000


class LongDecimal(sa.types.UserDefinedType[str]):
    """Decimals as text; the name gives the column SQLite's text affinity."""

    cache_ok = True

    def get_col_spec(self, **_: Any) -> str:
        """The type as the table's statement has it."""
        return LONG_DECIMAL


class SqliteEngine(SqlEngine):
    """A database file, relative to the current folder."""

    name = "sqlite"
    title = "SQLite"
    driver = "pysqlite"
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        **SqlEngine.levers,
        "durability": ("full", "relaxed"),
    }
    reach_hint = "name an SQLite database file or a new one, in a folder that can be written to"

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

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        return LongDecimal() if is_long(field) else super().column_type(field)

    def _session(self, connection: Connection) -> SqliteSession:
        session = SqliteSession(self, connection)
        # A file that is no database says so only when it is read.
        connection.exec_driver_sql("SELECT count(*) FROM sqlite_master")
        connection.rollback()
        return session


class SqliteSession(FileTables, SqlSession):
    """One connection to the file."""

    _long_sums = False
    _long_made = False

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session."""
        found = super().columns(table)
        if found is None:
            return None
        declared = self.run(f"PRAGMA table_info({self.quoted(table)})").fetchall()
        long = {row[1] for row in declared if row[2] == LONG_DECIMAL}
        numbered = "AUTOINCREMENT" in self.statement_of(table).upper()
        key = [row[1] for row in declared if row[5]]
        return [
            replace(
                column,
                type="number" if column.name in long else column.type,
                identity=numbered and column.name in key,
            )
            for column in found
        ]

    def statement_of(self, table: str) -> str:
        """See FileTables."""
        found = self.run(
            "SELECT sql FROM sqlite_master WHERE type = 'table' AND lower(name) = lower(:name)",
            name=table,
        )
        return str(found.scalar_one())

    def indexes(self, table: str) -> list[TableIndex]:
        """See Session."""
        with self.failing("Looking at the indexes of", table):
            found = self.run(
                "SELECT name, sql FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL "
                "AND lower(tbl_name) = lower(:name) ORDER BY name",
                name=table,
            ).fetchall()
            listed = self.run(f"PRAGMA index_list({self.quoted(table)})").fetchall()
        unique = {row[1] for row in listed if row[2]}
        return [TableIndex(name, sql, name in unique) for name, sql in found]

    def bound(self, table: str) -> list[str]:
        """See Session."""
        with self.failing("Looking at what hangs on", table):
            found = self.run(
                "SELECT name FROM sqlite_master WHERE type = 'trigger' "
                "AND lower(tbl_name) = lower(:name)",
                name=table,
            )
            return [f"it has the trigger {row[0]}" for row in found]

    def rename(self, table: str, name: str) -> None:
        """See TablesSession. What names the table goes on meaning that name."""
        self.run("PRAGMA legacy_alter_table = ON")
        super().rename(table, name)

    def lock(self, table: str) -> None:
        """See Session. The write lock of the file; a transaction that only read would lose it."""
        with self.failing("Waiting for", self.engine.place):
            if self.connection.in_transaction():
                self.connection.rollback()
            self.connection.begin()
            self.driver_connection.execute("COMMIT")
            self.driver_connection.execute("BEGIN IMMEDIATE")

    def relax(self) -> None:
        """See Session. Not at all safe would mean that a power cut could ruin the file."""
        with self.failing("Setting up", self.engine.place):
            # Must not be within a transaction.
            self.rollback()
            self.driver_connection.execute("PRAGMA synchronous = NORMAL")

    def numbered(self, table: str) -> str:
        """See TablesSession."""
        return "_rowid_"

    def last_row(self, table: str) -> int | None:
        """The highest row number, 0 without rows; None for tables without row numbers."""
        try:
            found = self.driver_connection.execute(f"SELECT max(_rowid_) FROM {self.quoted(table)}")
        except sqlite3.OperationalError:
            return None
        return int(found.fetchone()[0] or 0)

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Session. Not where a column of the source is the row number, or there is none."""
        declared = self.run(f"PRAGMA table_info({self.quoted(table)})").fetchall()
        keys = [row for row in declared if row[5]]
        numbering = len(keys) == 1 and keys[0][2].upper() == "INTEGER"
        return self.last_row(table) is not None and not (numbering and keys[0][1] in names)

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """See TablesSession. Rows that are numbered one after the other have these as marks."""
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
        """See Session."""
        return SqliteWriter(self, table, names)

    def digest(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Session. Sums that SQLite's integers cannot hold are made with Python's."""
        try:
            return super().digest(table, fields, marks)
        except OutsideError as error:
            if self._long_sums or "integer overflow" not in str(error):
                raise
        self._long_sums = True
        return super().digest(table, fields, marks)

    def total(self, column: str, field: Field) -> str:
        """See SqlSession. Decimals are stored as floats; as whole numbers their sum is exact."""
        if is_long(field):
            return self._long("sum", column, field)
        if field.is_text:
            return self._summed(f"length({column})")
        expressions = {
            "number": _whole(column, field) if field.is_decimal else column,
            "datetime": _seconds(column),
            "date": f"{_seconds(column)} / 86400",
            "time": _seconds(f"'1970-01-01 ' || {column}"),
        }
        return self._summed(expressions.get(field.type, column))

    def _summed(self, value: str) -> str:
        return self._long("sum", value, None) if self._long_sums else f"sum({value})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See SqlSession. Dates and times are ISO 8601 text, which orders as they do."""
        if is_long(field):
            return [self._long(what, column, field) for what in ("min", "max")]
        found = super().extremes(column, field)
        return [_whole(value, field) for value in found] if field.is_decimal else found

    def _long(self, what: str, value: str, field: Field | None) -> str:
        """An aggregate of numbers of any length, computed outside SQLite."""
        if not self._long_made:
            for name, choose in (("sum", None), ("min", min), ("max", max)):
                kind = type(f"Long{name}", (_LongAggregate,), {"choose": choose})
                self.driver_connection.create_aggregate(f"splarn_{name}", 2, kind)
            self._long_made = True
        return f"splarn_{what}({value}, {(field.scale or 0) if field else 0})"

    def quoted(self, name: str, dotted: bool = True) -> str:
        """SQLite has no schemas here: a dot is part of the name."""
        return super().quoted(name, dotted=False)


class _LongAggregate:
    """Sum or extreme of numbers written as text, as a whole number written as text."""

    choose: Any = None

    def __init__(self) -> None:
        self.found: int | None = None

    def step(self, value: Any, scale: int) -> None:
        if value is None:
            return
        whole = scaled(Decimal(value), scale)
        if self.found is None:
            self.found = whole
        else:
            choose = type(self).choose
            self.found = choose(self.found, whole) if choose else self.found + whole

    def finalize(self) -> str | None:
        return None if self.found is None else str(self.found)


def is_long(field: Field) -> bool:
    """Whether a decimal has more digits than a float keeps, and so is stored as text."""
    return field.precision is not None and field.precision > FLOAT_DIGITS


class SqliteWriter:
    """Holds rows back as columns of Python values, then inserts them under the write lock."""

    def __init__(self, session: SqliteSession, table: str, names: Sequence[str]) -> None:
        self.session = session
        self.table = table
        self.names = list(names)
        marks = ", ".join("?" * len(names))
        into = f"{session.quoted(table)} ({session.listed(names)})"
        self.statement = f"INSERT INTO {into} VALUES ({marks})"
        self.held: list[list[list[Any]]] = []
        self.rows = self.stored = 0
        self.locked = False
        self.before: int | None = None

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        rows = parsed.table.slice(start, stop - start)
        self.held.append(_python_columns(rows.select(self.names)))
        self.rows += stop - start
        if self.rows >= HOLD_ROWS:
            self._insert()

    def close(self) -> Marks | None:
        """See Writer."""
        self._insert()
        return self.session.marks_since(self.table, self.before, self.stored)

    def _insert(self) -> None:
        if not self.locked:
            # Waits for its turn; a deferred transaction would fail instead.
            self.session.lock(self.table)
            self.locked = True
            self.before = self.session.last_row(self.table)
        with self.session.failing("Writing to", self.table):
            cursor: sqlite3.Cursor = self.session.driver_connection.cursor()
            for columns in self.held:
                cursor.executemany(self.statement, zip(*columns, strict=True))
            cursor.close()
        self.stored += self.rows
        self.held, self.rows = [], 0


def _whole(value: str, field: Field) -> str:
    return f"CAST(round({value} * {10 ** (field.scale or 0)}) AS INTEGER)"


def _seconds(value: str) -> str:
    # Without the fraction, which would be rounded.
    value = f"substr({value}, 1, 19)"
    if sqlite3.sqlite_version_info >= (3, 38):
        return f"unixepoch({value})"
    return f"CAST(strftime('%s', {value}) AS INTEGER)"


def _python_columns(table: Any) -> list[list[Any]]:
    return [_python_values(column) for column in table.columns]


def _python_values(column: Any) -> list[Any]:
    """Values as SQLite stores them: numbers, and dates and times as ISO 8601 text."""
    kind = column.type
    if pa.types.is_decimal(kind):
        column = column.cast(pa.string() if kind.precision > FLOAT_DIGITS else pa.float64())
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

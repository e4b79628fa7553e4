"""SQLite: many rows a statement through the standard library's driver, one writer at a time."""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.digest import ColumnDigest, add_digests, scaled
from splarn.core.engine import TableColumn, TableIndex, Writer
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.core.names import join_name, schema_and_name, split_name
from splarn.engines.base import OWN, SqlEngine, SqlSession
from splarn.engines.sqlite_rows import FLOAT_DIGITS, StoredColumn, TableShape, stored_column
from splarn.engines.sqlite_writer import IMAGES, SqliteWriter
from splarn.engines.tables import FileTables, between

LOCK_WAIT = 120
# Rows from which on two connections read a table's digests in less time than one.
WORTH_TWO = 200_000
LONG_DECIMAL = "DECIMAL_TEXT"
# Arguments that a function of SQLite takes at most, and fewer.
MOST_ARGUMENTS = 60


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
    _hash_made = False
    _attached = False

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

    def canonical(self, table: str) -> str:
        """See Session. Only main is a schema here; other dots belong to the name."""
        pieces = split_name(table)
        if len(pieces) > 1 and pieces[0].lower() == "main":
            pieces = pieces[1:]
        bare = ".".join(pieces)
        with self.failing("Looking for the table", table):
            found = self.run(
                "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') "
                "AND lower(name) = lower(:name)",
                name=bare,
            ).fetchall()
        return join_name(found[0][0] if found else bare)

    def kind(self, table: str) -> str:
        """See Session."""
        with self.failing("Looking for the table", table):
            found = self.run(
                "SELECT type FROM sqlite_master WHERE type IN ('table', 'view') "
                "AND lower(name) = lower(:name)",
                name=schema_and_name(table)[1],
            ).fetchall()
        if not found:
            return ""
        return "table" if found[0][0] == "table" else f"a {found[0][0]}"

    def columns_text(self, table: str) -> str:
        """See Session."""
        with self.failing("Looking at the table", table):
            found = self.run(f"PRAGMA table_xinfo({self.quoted(table)})").fetchall()
        return json.dumps([[row[1], row[2]] for row in found])

    def hashed_cell(self, column: str, declared: str) -> str:
        """See SqlSession. JSON has no bytes."""
        return f"hex({column})" if "BLOB" in declared.upper() or not declared else column

    def hash_name(self) -> str:
        """See SqlSession."""
        return "sqlite-crc32"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See SqlSession."""
        if not self._hash_made:
            self.driver_connection.create_function("splarn_crc", 1, zlib.crc32, deterministic=True)
            self._hash_made = True
        # One call for many cells is much quicker than joining them one by one.
        groups = [
            columns[at : at + MOST_ARGUMENTS] for at in range(0, len(columns), MOST_ARGUMENTS)
        ]
        cells = " || ".join(f"json_array({', '.join(group)})" for group in groups)
        return f"splarn_crc(CAST({cells} AS BLOB))"

    def as_text(self, column: str) -> str:
        """See SqlSession."""
        return f"quote({column})"

    def own_table(self, query: str, key: Field) -> str:
        """See SqlSession."""
        return f"CREATE TEMPORARY TABLE {OWN} AS {query}"

    def drop_own(self) -> None:
        """See SqlSession."""
        with suppress(Exception):
            self.run(f"DROP TABLE IF EXISTS temp.{OWN}")

    def fill(self, table: str, rows: Any) -> None:
        """See SqlSession."""
        columns = [stored_column(column).to_pylist() for column in rows.columns]
        marks = ", ".join("?" * len(columns))
        self.driver_connection.executemany(
            f"INSERT INTO temp.{table} VALUES ({marks})", zip(*columns, strict=True)
        )

    def statement_of(self, table: str) -> str:
        """See FileTables."""
        found = self.run(
            "SELECT sql FROM sqlite_master WHERE type = 'table' AND lower(name) = lower(:name)",
            name=schema_and_name(table)[1],
        )
        return str(found.scalar_one())

    def indexes(self, table: str) -> list[TableIndex]:
        """See Session."""
        with self.failing("Looking at the indexes of", table):
            found = self.run(
                "SELECT name, sql FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL "
                "AND lower(tbl_name) = lower(:name) ORDER BY name",
                name=schema_and_name(table)[1],
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
                name=schema_and_name(table)[1],
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
                self.rollback()
            self.connection.begin()
            self.driver_connection.execute("COMMIT")
            self.driver_connection.execute("BEGIN IMMEDIATE")

    def relax(self) -> None:
        """See Session. Not at all safe would mean that a power cut could ruin the file."""
        with self.failing("Setting up", self.engine.place):
            # Must not be within a transaction.
            self.rollback()
            self.driver_connection.execute("PRAGMA synchronous = NORMAL")

    def within(self, table: str, marks: Marks) -> str:
        """See TablesSession."""
        return between("_rowid_", marks)

    def shape(self, table: str, names: Sequence[str]) -> TableShape:
        """How rows with these columns are stored."""
        declared = self.run(f"PRAGMA table_info({self.quoted(table)})").fetchall()
        columns = [StoredColumn(row[1], row[2], bool(row[3])) for row in declared]
        return TableShape(self.quoted(table), columns, names)

    def open_image(self, name: str, made: bytes) -> None:
        """Opens a database in memory beside the file."""
        driver = self.driver_connection
        if not self._attached:
            self.rollback()
            for free in IMAGES:
                driver.execute(f"ATTACH ':memory:' AS {free}")
            self._attached = True
        driver.deserialize(made, name=name)

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
            return self._digest(table, fields, marks)
        except OutsideError as error:
            if self._long_sums or "integer overflow" not in str(error):
                raise
        self._long_sums = True
        return super().digest(table, fields, marks)

    def _digest(
        self, table: str, fields: Sequence[Field], marks: Marks | None
    ) -> list[ColumnDigest]:
        """One half by another connection, where that sees the same rows."""
        rows = self.last_row(table) or 0
        alone = self.driver_connection.total_changes == 0
        if marks is not None or rows < WORTH_TWO or not alone or self._long_sums:
            return super().digest(table, fields, marks)
        with ThreadPoolExecutor(1) as other:
            lower = other.submit(self._half, table, fields, f"_rowid_ <= {rows // 2}")
            upper = self.digest_where(table, fields, f"_rowid_ > {rows // 2}")
            return add_digests(lower.result(), upper)

    def _half(self, table: str, fields: Sequence[Field], where: str) -> list[ColumnDigest]:
        session = self.engine.connect()
        try:
            return session.digest_where(table, fields, where)
        finally:
            session.close()

    def total(self, column: str, field: Field) -> str:
        """See SqlSession. Decimals are stored as floats; as whole numbers their sum is exact."""
        if is_long(field):
            return self._long("sum", column, field)
        if field.is_text:
            return self._summed(f"length({column})")
        expressions = {
            "number": _whole(column, field) if field.is_decimal else column,
            "datetime": _seconds(column),
            "date": f"({_seconds(column)}) / 86400",
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


def _whole(value: str, field: Field) -> str:
    return f"CAST(round({value} * {10 ** (field.scale or 0)}) AS INTEGER)"


def _seconds(value: str) -> str:
    """Seconds since 1970 of ISO 8601 text, without a fraction, which would be rounded."""
    convert = "unixepoch({})"
    if sqlite3.sqlite_version_info < (3, 38):
        convert = "CAST(strftime('%s', {}) AS INTEGER)"
    short = convert.format(f"substr({value}, 1, 19)")
    return f"CASE WHEN length({value}) > 19 THEN {short} ELSE {convert.format(value)} END"

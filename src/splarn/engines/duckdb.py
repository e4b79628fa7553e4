"""DuckDB: Arrow tables inserted as they are, by threads that share one open file."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.schema import CreateTable

from splarn.core.engine import TableColumn, TableIndex, Writer
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.core.names import join_name, schema_and_name, split_name
from splarn.core.reading.parsed import Parsed
from splarn.engines.base import SqlEngine, SqlSession
from splarn.engines.connected import reason
from splarn.engines.duckdb_connection import _Connection, _sql
from splarn.engines.notes import NOTES
from splarn.engines.tables import FileTables, between

# Rows held back, so that each insert fills whole row groups.
HOLD_ROWS = 122_880
_TYPES = {
    "date": "date",
    "time": "time",
    "boolean": "boolean",
    "varchar": "string",
    "uuid": "string",
    "json": "string",
    "double": "number",
    "float": "number",
}


class DuckdbEngine(SqlEngine):
    """A database file, relative to the current folder. Only one process may have it open."""

    name = "duckdb"
    title = "DuckDB"
    extra = "duckdb"
    in_process = True

    def connect(self) -> SqlSession:
        """See SqlEngine."""
        try:
            import duckdb
        except ModuleNotFoundError:
            raise RequestError(
                f"{self.place} needs the driver duckdb, which is not installed: "
                "pip install 'splarn[duckdb]'."
            ) from None
        database = self.url.database
        if database and database != ":memory:":
            # One file is one target, by whatever path.
            database = str(Path(database).resolve())
        if not database or database == ":memory:":
            raise RequestError(
                "A DuckDB target needs a file: write it like duckdb:///larkmere.duckdb."
            )
        if not Path(database).parent.is_dir():
            raise RequestError(
                f"The folder of {self.place} does not exist: make it or name another place."
            )
        try:
            return DuckdbSession(self, _Connection(database))
        except duckdb.Error as error:
            raise OutsideError(
                f"{self.place} cannot be opened ({reason(error)}): name a DuckDB database file or "
                "a new one that no other program has open."
            ) from None

    def ddl(self, table: str, layout: Layout) -> str:
        """See SqlEngine."""
        return _sql(CreateTable(self.table(table, layout)))[0].strip() + ";"

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        if field.is_uuid:
            return _Named("UUID")
        if field.is_json:
            return _Named("JSON")
        return _Named("VARCHAR") if field.is_text else super().column_type(field)

    def _session(self, connection: Any) -> SqlSession:
        return DuckdbSession(self, connection)


class _Named(sa.types.UserDefinedType[Any]):
    """A column type by its name."""

    cache_ok = True

    def __init__(self, name: str) -> None:
        self.name = name

    def get_col_spec(self, **_: Any) -> str:
        """The type as the table's statement has it."""
        return self.name


class DuckdbSession(FileTables, SqlSession):
    """One cursor's transaction on the shared file."""

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session."""
        with self.failing("Looking at the table", table):
            schema, bare = schema_and_name(table)
            found = self.driver_connection.execute(
                "SELECT column_name, lower(data_type), is_nullable = 'YES' OR "
                "column_default IS NOT NULL, coalesce(column_default, '') LIKE 'nextval(%' "
                "FROM information_schema.columns "
                "WHERE table_name = ? AND table_schema = coalesce(?, current_schema()) "
                "ORDER BY ordinal_position",
                [bare, schema],
            ).fetchall()
        return [
            TableColumn(name, _field_type(kind), free, numbered)
            for name, kind, free, numbered in found
        ] or None

    def statement_of(self, table: str) -> str:
        """See FileTables."""
        found = self._described("sql", "duckdb_tables()", table)
        return str(found[0][0])

    def indexes(self, table: str) -> list[TableIndex]:
        """See Session."""
        with self.failing("Looking at the indexes of", table):
            found = self._described("index_name, sql, is_unique", "duckdb_indexes()", table)
        return [TableIndex(name, sql, unique) for name, sql, unique in found if sql]

    def _described(self, what: str, where: str, table: str) -> list[Any]:
        schema, bare = schema_and_name(table)
        found = self.driver_connection.execute(
            f"SELECT {what} FROM {where} WHERE table_name = ? "
            "AND schema_name = coalesce(?, current_schema())",
            [bare, schema],
        )
        return list(found.fetchall())

    def lock(self, table: str) -> None:
        """See Session."""
        self.connection.wait_turn()  # type: ignore[attr-defined]

    def last_mark(self, table: str) -> int | None:
        """See Session. Rows are numbered as they are added, and no other program adds any."""
        with self.failing("Looking at the rows of", table):
            found = self.run(f"SELECT coalesce(max(rowid), -1) FROM {self.quoted(table)}")
            return int(found.scalar_one())

    def within(self, table: str, marks: Marks) -> str:
        """See TablesSession."""
        return between("rowid", marks)

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Session."""
        return ArrowWriter(self, table, names)

    def total(self, column: str, field: Field) -> str:
        """See SqlSession."""
        if field.is_text:
            return f"sum(length({column}::VARCHAR))"
        expressions = {
            "boolean": f"{column}::INTEGER",
            "date": f"date_diff('day', DATE '1970-01-01', {column})",
            "datetime": f"epoch_us(date_trunc('second', {column})) // 1000000",
            "time": f"(hour({column}) * 3600 + minute({column}) * 60 + second({column}))",
        }
        return f"sum({expressions.get(field.type, column)})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See SqlSession."""
        return super().extremes(f"{column}::INTEGER" if field.type == "boolean" else column, field)

    def canonical(self, table: str) -> str:
        """See Session. Names differ by more than case; main is where tables are by default."""
        pieces = split_name(table)
        if len(pieces) == 3:
            pieces = pieces[1:]
        schema, bare = schema_and_name(join_name(*pieces))
        with self.failing("Looking for the table", table):
            found = self.driver_connection.execute(
                "SELECT schema_name, table_name FROM duckdb_tables() WHERE database_name = "
                "current_database() AND lower(table_name) = lower(?) "
                "AND lower(schema_name) = lower(?)",
                [bare, schema or "main"],
            ).fetchall()
        schema, bare = found[0] if found else (schema, bare)
        return join_name(None if (schema or "main").lower() == "main" else schema, bare)

    def kind(self, table: str) -> str:
        """See Session."""
        schema, bare = schema_and_name(table)
        found = self.driver_connection.execute(
            "SELECT table_type FROM information_schema.tables WHERE table_name = ? "
            "AND table_schema = coalesce(?, 'main') AND table_catalog = current_database()",
            [bare, schema],
        ).fetchall()
        if not found:
            return ""
        return "table" if "TABLE" in found[0][0] else f"a {found[0][0].lower()}"

    def columns_text(self, table: str) -> str:
        """See Session."""
        schema, bare = schema_and_name(table)
        found = self.driver_connection.execute(
            "SELECT column_name, data_type FROM information_schema.columns WHERE table_name = ? "
            "AND table_schema = coalesce(?, 'main') AND table_catalog = current_database() "
            "ORDER BY ordinal_position",
            [bare, schema],
        ).fetchall()
        return json.dumps(found)

    def hash_name(self) -> str:
        """See SqlSession. Another version may hash in another way."""
        import duckdb

        return f"duckdb-{duckdb.__version__}"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See SqlSession."""
        return f"hash({', '.join(columns)})::HUGEINT"

    def as_text(self, column: str) -> str:
        """See SqlSession."""
        return f"{column}::VARCHAR"

    def note_schemas(self) -> list[str | None]:
        """See NotesSession."""
        with self.failing("Looking for the notes of", self.engine.place):
            found = self.driver_connection.execute(
                "SELECT schema_name FROM duckdb_tables() WHERE database_name = current_database() "
                "AND table_name = ? ORDER BY 1",
                [NOTES],
            ).fetchall()
        return [None if schema == "main" else schema for (schema,) in found]

    def follow_identity(self, table: str, column: str) -> str:
        """See Session. A sequence that a table uses cannot be set."""
        with self.failing("Looking at the numbers of", table):
            name = self.quoted(column, dotted=False)
            last = self.run(f"SELECT max({name}) FROM {self.quoted(table)}").scalar_one()
        return (
            f"{column} was stored up to {last:,}, and DuckDB cannot set a sequence: the table's "
            "own numbers do not go on behind that and may come again; give --identity fill to let "
            "the table number all rows."
        )

    def _note_columns(self, schema: str | None) -> set[str]:
        return {column.name for column in self.columns(join_name(schema, NOTES)) or ()}


class ArrowWriter:
    """One batch, its Arrow tables inserted by DuckDB itself."""

    def __init__(self, session: DuckdbSession, table: str, names: Sequence[str]) -> None:
        self.session = session
        self.table = table
        listed = session.listed(names)
        into = session.quoted(table)
        self.into = f"INSERT INTO {into} ({listed}) SELECT {listed} FROM splarn_rows"
        self.held: list[Any] = []
        self.rows = 0

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        self.held.append(parsed.table.slice(start, stop - start))
        self.rows += stop - start
        if self.rows >= HOLD_ROWS:
            self._insert()

    def close(self) -> Marks | None:
        """See Writer. Rows are numbered only when they are committed."""
        if self.rows:
            self._insert()
        return None

    def _insert(self) -> None:
        import pyarrow as pa

        with self.session.failing("Writing to", self.table):
            self.session.connection.begin()
            driver = self.session.driver_connection
            driver.register("splarn_rows", pa.concat_tables(self.held))
            driver.execute(self.into)
            driver.unregister("splarn_rows")
        self.held, self.rows = [], 0


def _field_type(kind: str) -> str:
    """Our word for a column type; `any` for one that Splarn does not judge."""
    if kind.startswith("timestamp"):
        return "datetime"
    if kind.startswith("decimal"):
        return "number"
    if kind.endswith("int") or kind == "integer":
        return "integer"
    return _TYPES.get(kind, "any")

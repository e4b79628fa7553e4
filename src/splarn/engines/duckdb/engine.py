"""DuckDB: Arrow tables inserted as they are, by threads that share one open file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.schema import CreateTable

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Field, Layout
from splarn.core.target.session import Engine
from splarn.engines.duckdb.digests import DuckdbDigests
from splarn.engines.duckdb.link import DuckdbLink, compiled
from splarn.engines.duckdb.outgoing import DuckdbOutgoing
from splarn.engines.duckdb.rows import DuckdbRows
from splarn.engines.duckdb.tables import DuckdbTables
from splarn.engines.sql.claims import FileClaims
from splarn.engines.sql.engine import SqlEngine
from splarn.engines.sql.errors import reason
from splarn.engines.sql.link import SqlLink
from splarn.engines.sql.notes import NOTES, SqlNotes
from splarn.engines.sql.session import SqlSession


class DuckdbEngine(SqlEngine):
    """A database file, relative to the current folder. Only one process may have it open."""

    name = "duckdb"
    title = "DuckDB"
    extra = "duckdb"
    in_process = True
    is_file = True

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
            link = DuckdbLink(self.place, database)
        except duckdb.Error as error:
            raise OutsideError(
                f"{self.place} cannot be opened ({reason(error)}): name a DuckDB database file or "
                "a new one that no other program has open."
            ) from None
        tables = DuckdbTables(link, self.table)
        rows = DuckdbRows(link, tables)
        claims = DuckdbClaims(link, Path(database))
        return SqlSession(
            link, tables, rows, DuckdbDigests(link, tables, rows), claims,
            DuckdbNotes(link, tables), DuckdbOutgoing(link, tables),
        )  # fmt: skip

    def ddl(self, table: str, layout: Layout) -> str:
        """See SqlEngine."""
        return compiled(CreateTable(self.table(table, layout)))[0].strip() + ";"

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        if field.is_uuid:
            return _Named("UUID")
        if field.is_json:
            return _Named("JSON")
        return _Named("VARCHAR") if field.is_text else super().column_type(field)

    def session(self, link: SqlLink) -> SqlSession:
        """See SqlEngine. Raises TypeError: it opens a link of its own."""
        raise TypeError("DuckDB is not reached through SQLAlchemy")


class _Named(sa.types.UserDefinedType[Any]):
    """A column type by its name."""

    cache_ok = True

    def __init__(self, name: str) -> None:
        self.name = name

    def get_col_spec(self, **_: Any) -> str:
        """The type as the table's statement has it."""
        return self.name


class DuckdbClaims(FileClaims):
    """Turns are taken within the one process that may open the file."""

    link: DuckdbLink

    def take_turn(self, table: str) -> None:
        """See Claims."""
        self.link.wait_turn()


class DuckdbNotes(SqlNotes):
    """Notes in any schema of the file."""

    def note_schemas(self) -> list[str | None]:
        """See SqlNotes."""
        with self.link.failing("Looking for the notes of", self.link.place):
            schemas = self.link.driver.execute(
                "SELECT schema_name FROM duckdb_tables() WHERE database_name = current_database() "
                "AND table_name = ? ORDER BY 1",
                [NOTES],
            ).fetchall()
        return [None if schema == "main" else schema for (schema,) in schemas]


# The type checker holds the engine to the contract.
_KIND: type[Engine] = DuckdbEngine

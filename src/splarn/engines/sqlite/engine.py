"""SQLite: many rows a statement through the standard library's driver, one writer at a time."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.target.session import Engine
from splarn.engines.sql.claims import FileClaims
from splarn.engines.sql.engine import SqlEngine
from splarn.engines.sql.link import SqlLink
from splarn.engines.sql.session import SqlSession
from splarn.engines.sqlite.digests import SqliteDigests, is_long
from splarn.engines.sqlite.locking import CHANGES, WRITES, begin_writing
from splarn.engines.sqlite.outgoing import SqliteOutgoing
from splarn.engines.sqlite.rows import SqliteRows
from splarn.engines.sqlite.tables import LongDecimal, SqliteTables

LOCK_WAIT = 120


class SqliteEngine(SqlEngine):
    """A database file, relative to the current folder."""

    name = "sqlite"
    title = "SQLite"
    driver = "pysqlite"
    is_file = True
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
            connection.info[WRITES] = False
            connection.exec_driver_sql("BEGIN")

        @sa.event.listens_for(engine, "before_cursor_execute")
        def lock(connection: Connection, _cursor: Any, statement: str, *_: Any) -> None:
            if not connection.info[WRITES] and CHANGES.match(statement):
                begin_writing(connection)

        return engine

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        return LongDecimal() if is_long(field) else super().column_type(field)

    def _look(self, connection: Connection) -> None:
        # A file that is no database says so only when it is read.
        connection.exec_driver_sql("SELECT count(*) FROM sqlite_master")
        connection.rollback()

    @property
    def database(self) -> Path:
        """The file."""
        return Path(self.url.database or "").resolve()

    def session(self, link: SqlLink) -> SqlSession:
        """See SqlEngine."""
        tables = SqliteTables(link, self.table)
        claims = SqliteClaims(link, self.database)
        rows = SqliteRows(link, tables, claims)
        digests = SqliteDigests(link, tables, rows, self.link)
        outgoing = SqliteOutgoing(link, tables)
        return SqliteSession(link, tables, rows, digests, claims, outgoing=outgoing)


class SqliteClaims(FileClaims):
    """Turns are the write lock of the file."""

    def take_turn(self, table: str) -> None:
        """See Claims. The write lock of the file."""
        link = self.link
        assert isinstance(link, SqlLink), "SQLAlchemy holds the connection"
        with link.failing("Waiting for", self.link.place):
            if link.connection.in_transaction():
                link.rollback()
            link.connection.begin()
            begin_writing(link.connection)


class SqliteSession(SqlSession):
    """One connection to the file."""

    version_function = "'SQLite ' || sqlite_version()"

    def relax(self) -> None:
        """See Session. Not at all safe would mean that a power cut could ruin the file."""
        with self.link.failing("Setting up", self.link.place):
            # Must not be within a transaction.
            self.rollback()
            self.link.driver.execute("PRAGMA synchronous = NORMAL")


# The type checker holds the engine to the contract.
_KIND: type[Engine] = SqliteEngine

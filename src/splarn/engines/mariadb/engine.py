"""MariaDB and MySQL: LOAD DATA LOCAL from a pipe, one connection a stream."""

from __future__ import annotations

import hashlib
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.engine import URL

from splarn.core.errors import OutsideError
from splarn.core.layout import Field, Layout
from splarn.core.target.session import Engine
from splarn.engines.mariadb.digests import MariadbDigests
from splarn.engines.mariadb.outgoing import MariadbOutgoing
from splarn.engines.mariadb.rows import MariadbRows
from splarn.engines.mariadb.tables import MariadbTables
from splarn.engines.sql.claims import ServerClaims
from splarn.engines.sql.engine import SqlEngine
from splarn.engines.sql.link import Concern, Link, SqlLink
from splarn.engines.sql.notes import SqlNotes
from splarn.engines.sql.session import SqlSession

# Seconds for which the server bears with a client that sends nothing.
PATIENCE = 3600


class MariadbEngine(SqlEngine):
    """A database on a MariaDB or MySQL server."""

    name = "mysql"
    title = "MariaDB"
    driver = "pymysql"
    extra = "mariadb"
    server: ClassVar[tuple[str, ...]] = ("mariadbd", "mysqld")

    def __init__(self, url: URL) -> None:
        super().__init__(url)
        # One dialect for both servers, under the name that its options go by.
        self.url = url.set(drivername=f"{self.name}+{self.driver}")

    def table(self, name: str, layout: Layout) -> sa.Table:
        """See SqlEngine. Text is told apart to the letter."""
        table = super().table(name, layout)
        table.dialect_options["mysql"]["engine"] = "InnoDB"
        table.dialect_options["mysql"]["charset"] = "utf8mb4"
        table.dialect_options["mysql"]["collate"] = "utf8mb4_bin"
        return table

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        if field.is_uuid:
            return mysql.CHAR(36)
        if field.type == "string" and field.max_length is not None and field.max_length < 16_000:
            return mysql.VARCHAR(field.max_length)
        if field.is_text:
            return mysql.LONGTEXT()
        types: dict[str, sa.types.TypeEngine[Any]] = {
            "datetime": mysql.DATETIME(fsp=6),
            "time": mysql.TIME(fsp=6),
            "number": mysql.DOUBLE(),
        }
        if field.is_decimal or field.type not in types:
            return super().column_type(field)
        return types[field.type]

    def _make_engine(self) -> sa.Engine:
        engine = sa.create_engine(
            self.url,
            poolclass=sa.NullPool,
            connect_args={"local_infile": True, "charset": "utf8mb4"},
        )

        @sa.event.listens_for(engine, "connect")
        def strictly(connection: Any, _record: Any) -> None:
            with connection.cursor() as cursor:
                cursor.execute("SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES'")
                cursor.execute("SET SESSION time_zone = '+00:00'")
                cursor.execute(f"SET SESSION net_read_timeout = {PATIENCE}")

        return engine

    def session(self, link: SqlLink) -> SqlSession:
        """See SqlEngine."""
        tables = MariadbTables(link, self.table)
        rows = MariadbRows(link, tables)
        notes = MariadbNotes(link, tables)
        digests = MariadbDigests(link, tables, rows, self.link)
        return MariadbSession(
            link, tables, rows, digests, MariadbClaims(link, notes), notes,
            MariadbOutgoing(link, tables),
        )  # fmt: skip


class NamedLocks(Concern):
    """Locks that the server keeps by name, held over commits until the session ends."""

    def get(self, name: str, seconds: int) -> bool:
        """Whether the lock is ours within so many seconds."""
        with self.link.failing("Waiting for", self.link.place):
            answer = self.link.run("SELECT GET_LOCK(:key, :s)", key=_short(name), s=seconds)
            return bool(answer.value)

    def leave(self, name: str) -> None:
        """Lets others have it."""
        self.link.run("SELECT RELEASE_LOCK(:key)", key=_short(name))


def _short(name: str) -> str:
    """Names of locks are short, and the same on the whole server."""
    return hashlib.sha256(name.encode()).hexdigest()[:32]


class MariadbNotes(SqlNotes):
    """Notes in the database of the URL, and in those that were loaded into."""

    def __init__(self, link: Link, tables: MariadbTables) -> None:
        super().__init__(link, tables)
        self.locks = NamedLocks(link)

    def note_schemas(self) -> list[str | None]:
        """See SqlNotes. Of the database of the URL, and of those that were loaded into."""
        here = self.link.run("SELECT database()").value
        wanted = {here, *self._notes_made} - {None}
        return [schema for schema in sorted(wanted) if self._has_notes(schema)]

    def _make_notes(self, schema: str | None) -> None:
        # Making a table commits, so whoever else makes it waits for a lock of its own.
        name = f"splarn notes {schema}"
        made = self._has_notes(schema)
        if not made and not self.locks.get(name, 120):
            raise OutsideError(f"Another loader has held the notes of {schema} for two minutes.")
        super()._make_notes(schema)
        if not made:
            self.link.commit()
            self.locks.leave(name)


class MariadbClaims(ServerClaims):
    """Turns and claims as locks of the server."""

    def __init__(self, link: Link, notes: MariadbNotes) -> None:
        super().__init__(link, notes)
        self.locks = notes.locks
        self._locked: set[str] = set()

    def take_turn(self, table: str) -> None:
        """See Claims. Held over the commits of table changes; earlier reads are forgotten."""
        if table not in self._locked and not self.locks.get(f"splarn table {table}", 120):
            raise OutsideError(
                f"Another loader has been beginning or ending a load into {table} of "
                f"{self.link.place} for two minutes: wait for it to end."
            )
        self._locked.add(table)
        self.link.commit()

    def claim(self, load_id: str) -> bool:
        """See Claims."""
        return self.locks.get(f"splarn load {load_id}", 0)

    def end_turn(self, table: str) -> None:
        """See Claims."""
        if table in self._locked:
            self._locked.discard(table)
            with self.link.failing("Releasing", table):
                self.locks.leave(f"splarn table {table}")
                self.link.commit()


class MariadbSession(SqlSession):
    """One connection to the server."""

    def checkpoint(self) -> None:
        """See Session. Changes of tables commit whatever is open."""
        self.link.commit()


# The type checker holds the engine to the contract.
_KIND: type[Engine] = MariadbEngine

"""MariaDB and MySQL: LOAD DATA LOCAL from memory, one connection a stream."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.engine import URL, Connection

from splarn.core.engine import Writer
from splarn.core.errors import RefusedError
from splarn.core.layout import Field, Layout
from splarn.core.reading.parsed import Parsed
from splarn.engines.base import SqlEngine, SqlSession
from splarn.engines.tabbed import tabbed

# The server gives up on a client that sends nothing for a minute; larger sends are fewer.
SEND = 16 << 20


class MariadbEngine(SqlEngine):
    """A database on a MariaDB or MySQL server."""

    name = "mysql"
    driver = "pymysql"
    extra = "mariadb"

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

        return engine

    def _session(self, connection: Connection) -> MariadbSession:
        return MariadbSession(self, connection)


class MariadbSession(SqlSession):
    """One connection to the server."""

    def writer(self, table: str, layout: Layout) -> Writer:
        """See Session."""
        return LoadDataWriter(self, table, layout)

    def total(self, column: str, field: Field) -> str:
        """See SqlSession."""
        if field.is_text:
            return f"sum(char_length({column}))"
        expressions = {
            "date": f"datediff({column}, '1970-01-01')",
            "datetime": f"floor(timestampdiff(microsecond, '1970-01-01', {column}) / 1000000)",
            "time": f"floor(time_to_sec({column}))",
        }
        return f"sum({expressions.get(field.type, column)})"


class LoadDataWriter:
    """One batch in memory, handed to LOAD DATA LOCAL when it is whole or large."""

    def __init__(self, session: MariadbSession, table: str, layout: Layout) -> None:
        self.session = session
        self.table = table
        names = ", ".join(session.quoted(name, dotted=False) for name in layout.names)
        # NO_BACKSLASH_ESCAPES is about SQL; in the data a backslash escapes, as `tabbed` writes it.
        self.into = (
            f"INTO TABLE {session.quoted(table)} CHARACTER SET utf8mb4 "
            f"FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' ({names})"
        )
        self.held: list[bytes] = []
        self.size = self.rows = 0

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        data = tabbed(parsed.table.slice(start, stop - start), "1", "0")
        self.held.append(data)
        self.size += len(data)
        self.rows += stop - start
        if self.size >= SEND:
            self._send()

    def close(self) -> None:
        """See Writer."""
        if self.rows:
            self._send()

    def _send(self) -> None:
        with self.session.failing("Writing to", self.table), _in_memory(self.held) as name:
            connection = self.session.connection
            if not connection.in_transaction():
                connection.begin()
            with self.session.driver_connection.cursor() as cursor:
                stored = cursor.execute(f"LOAD DATA LOCAL INFILE '{name}' {self.into}")
                # What a LOCAL load cannot store it drops or bends, with a mere warning.
                cursor.execute("SHOW WARNINGS LIMIT 1")
                warning = cursor.fetchone()
        if warning or stored != self.rows:
            what = f"only {stored:,} of {self.rows:,} rows were stored"
            what = str(warning[2]).rstrip(".") if warning else what
            self.session.rollback()
            raise RefusedError(
                f"Writing to {self.table} failed in {self.session.engine.place}: {what}; nothing "
                "of the open batch was kept.",
                what,
            )
        self.held, self.size, self.rows = [], 0, 0


@contextmanager
def _in_memory(pieces: list[bytes]) -> Iterator[str]:
    """The path of a file that holds the bytes, in memory where the system has such files."""
    if hasattr(os, "memfd_create"):
        with os.fdopen(os.memfd_create("splarn"), "wb") as file:
            _fill(file, pieces)
            yield f"/proc/self/fd/{file.fileno()}"
        return
    with tempfile.TemporaryDirectory(prefix="splarn-") as folder:
        path = Path(folder) / "batch"
        with path.open("wb") as file:
            _fill(file, pieces)
        yield str(path)


def _fill(file: IO[bytes], pieces: list[bytes]) -> None:
    file.writelines(pieces)
    file.flush()

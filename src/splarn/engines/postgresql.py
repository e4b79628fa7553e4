"""PostgreSQL: COPY from standard input, one connection a stream."""

from __future__ import annotations

from contextlib import ExitStack
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.engine import Writer
from splarn.core.layout import Field, Layout
from splarn.core.reading.parsed import Parsed
from splarn.engines.base import SqlEngine, SqlSession
from splarn.engines.tabbed import tabbed


class PostgresqlEngine(SqlEngine):
    """A database on a PostgreSQL server."""

    name = "postgresql"
    driver = "psycopg"
    extra = "postgresql"

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        if field.is_uuid:
            return sa.Uuid()
        # json keeps the text as it came, jsonb would not.
        return sa.JSON() if field.is_json else super().column_type(field)

    def _session(self, connection: Connection) -> PostgresqlSession:
        return PostgresqlSession(self, connection)


class PostgresqlSession(SqlSession):
    """One connection to the server."""

    def writer(self, table: str, layout: Layout) -> Writer:
        """See Session."""
        return CopyWriter(self, table, layout)

    def total(self, column: str, field: Field) -> str:
        """See SqlSession."""
        if field.is_text:
            return f"sum(char_length({column}::text))"
        expressions = {
            "boolean": f"{column}::int",
            "date": f"({column} - DATE '1970-01-01')",
            "datetime": f"floor(date_part('epoch', {column}))::bigint",
            "time": f"floor(date_part('epoch', {column}))::bigint",
        }
        return f"sum({expressions.get(field.type, column)})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See SqlSession. Booleans have no order of their own."""
        return super().extremes(f"{column}::int" if field.type == "boolean" else column, field)


class CopyWriter:
    """One COPY. Bytes go as they came where the server reads them as Splarn does."""

    def __init__(self, session: PostgresqlSession, table: str, layout: Layout) -> None:
        self.session = session
        self.table = table
        dialect = layout.dialect
        self.raw_is_safe = (
            dialect.is_utf8
            and dialect.quote is not None
            and dialect.null_markers == ("",)
            and not any(field.has_pattern or field.true_values for field in layout.fields)
            and dialect.escape is None
            and not dialect.trim
            and len(dialect.delimiter_bytes) == 1
            and layout.format == "csv"
        )
        names = ", ".join(session.quoted(name, dotted=False) for name in layout.names)
        typed = [
            session.quoted(field.name, dotted=False)
            for field in layout.fields
            if not field.is_free_text
        ]
        # A quoted empty value is a null for every type that has no empty value.
        force = f", FORCE_NULL ({', '.join(typed)})" if typed else ""
        quote = (dialect.quote or '"').replace("'", "''")
        self.raw_options = (
            f"FORMAT csv, DELIMITER '{dialect.delimiter.replace(chr(39), chr(39) * 2)}', "
            f"QUOTE '{quote}', ENCODING 'UTF8'{force}"
        )
        self.text_options = "FORMAT text, ENCODING 'UTF8'"
        self.into = f"COPY {session.quoted(table)} ({names}) FROM STDIN"
        self.copy: Any = None
        self.raw = False
        self._stack = ExitStack()

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        raw = self.raw_is_safe and _reads_alike(parsed)
        with self.session.failing("Writing to", self.table):
            if self.copy is None or raw != self.raw:
                self._reopen(raw)
            if raw:
                for piece in parsed.raw(start, stop):
                    self.copy.write(piece)
            else:
                self.copy.write(tabbed(parsed.table.slice(start, stop - start)))

    def close(self) -> None:
        """See Writer."""
        with self.session.failing("Writing to", self.table):
            self._stack.close()
        self.copy = None

    def _reopen(self, raw: bool) -> None:
        self._stack.close()
        connection = self.session.connection
        if not connection.in_transaction():
            connection.begin()
        cursor = self._stack.enter_context(self.session.driver_connection.cursor())
        options = self.raw_options if raw else self.text_options
        self.copy = self._stack.enter_context(cursor.copy(f"{self.into} ({options})"))
        self.raw = raw


def _reads_alike(parsed: Parsed) -> bool:
    """Whether the server reads the chunk's bytes as Arrow did.

    A stray quote, a carriage return and a backslash at a line's start mean something else to COPY.
    """
    if parsed.chunk is None:
        return False
    data = parsed.chunk.data
    if parsed.chunk.stray or b"\r" in data:
        return False
    return not (b"\n\\." in data or data.startswith(b"\\."))

"""PostgreSQL: COPY from standard input, one connection a stream."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import sqlalchemy as sa

from splarn.core.layout import Field
from splarn.core.target.session import Engine
from splarn.engines.postgresql.digests import PostgresqlDigests
from splarn.engines.postgresql.outgoing import PostgresqlOutgoing
from splarn.engines.postgresql.rows import PostgresqlRows
from splarn.engines.postgresql.tables import PostgresqlTables
from splarn.engines.sql.claims import ServerClaims
from splarn.engines.sql.engine import SqlEngine
from splarn.engines.sql.link import SqlLink
from splarn.engines.sql.notes import NOTES, SqlNotes
from splarn.engines.sql.session import SqlSession


class PostgresqlEngine(SqlEngine):
    """A database on a PostgreSQL server."""

    name = "postgresql"
    title = "PostgreSQL"
    driver = "psycopg"
    extra = "postgresql"
    server: ClassVar[tuple[str, ...]] = ("postgres",)
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        **SqlEngine.levers,
        "durability": ("full", "relaxed", "none"),
    }
    # Whatever the database keeps text in; the driver would take its bytes for that.
    connect_args: ClassVar[Mapping[str, Any]] = {"client_encoding": "utf8"}

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        if field.is_uuid:
            return sa.Uuid()
        # json keeps the text as it came, jsonb would not.
        return sa.JSON() if field.is_json else super().column_type(field)

    def session(self, link: SqlLink) -> SqlSession:
        """See SqlEngine."""
        tables = PostgresqlTables(link, self.table)
        rows = PostgresqlRows(link, tables)
        notes = PostgresqlNotes(link, tables)
        digests = PostgresqlDigests(link, tables, rows)
        return PostgresqlSession(
            link, tables, rows, digests, PostgresqlClaims(link, notes), notes,
            PostgresqlOutgoing(link, tables),
        )  # fmt: skip


class PostgresqlNotes(SqlNotes):
    """Notes in any schema that may be looked into."""

    def note_schemas(self) -> list[str | None]:
        """See SqlNotes."""
        with self.link.failing("Looking for the notes of", self.link.place):
            answer = self.link.run(
                "SELECT nspname FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace "
                f"WHERE relname = '{NOTES}' AND relkind = 'r' "
                "AND has_schema_privilege(n.oid, 'USAGE') "
                "AND has_table_privilege(c.oid, 'SELECT') ORDER BY nspname"
            )
            return [row[0] for row in answer.rows]

    def _lock_notes(self, schema: str | None) -> None:
        self.link.run(
            "SELECT pg_advisory_xact_lock(hashtextextended(:key, 0))", key=f"splarn notes {schema}"
        )


class PostgresqlClaims(ServerClaims):
    """Turns and claims as the server's advisory locks."""

    def take_turn(self, table: str) -> None:
        """See Claims."""
        with self.link.failing("Waiting for", table):
            key = f"splarn table {table}"
            self.link.run("SELECT pg_advisory_xact_lock(hashtextextended(:key, 0))", key=key)

    def claim(self, load_id: str) -> bool:
        """See Claims."""
        with self.link.failing("Claiming the load", load_id):
            key = f"splarn load {load_id}"
            answer = self.link.run(
                "SELECT pg_try_advisory_lock(hashtextextended(:key, 0))", key=key
            )
            return bool(answer.value)


class PostgresqlSession(SqlSession):
    """One connection to the server."""

    def relax(self) -> None:
        """See Session."""
        with self.link.failing("Setting up", self.link.place):
            self.link.run("SET synchronous_commit = off")
            self.link.commit()


# The type checker holds the engine to the contract.
_KIND: type[Engine] = PostgresqlEngine

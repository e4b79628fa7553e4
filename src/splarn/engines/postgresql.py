"""PostgreSQL: COPY from standard input, one connection a stream."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.engine import TableIndex, Writer
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.core.reading.parsed import Parsed
from splarn.engines.base import SqlEngine, SqlSession
from splarn.engines.tabbed import tabbed
from splarn.engines.tables import rest_of_index


class PostgresqlEngine(SqlEngine):
    """A database on a PostgreSQL server."""

    name = "postgresql"
    title = "PostgreSQL"
    driver = "psycopg"
    extra = "postgresql"
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        **SqlEngine.levers,
        "durability": ("full", "relaxed", "unlogged"),
    }

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

    keeping_identity = "OVERRIDING SYSTEM VALUE"

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Session."""
        return CopyWriter(self, table, layout, names)

    def relax(self) -> None:
        """See Session."""
        with self.failing("Setting up", self.engine.place):
            self.run("SET synchronous_commit = off")
            self.commit()

    def lock(self, table: str) -> None:
        """See Session."""
        with self.failing("Waiting for", table):
            key = f"splarn table {table}"
            self.run("SELECT pg_advisory_xact_lock(hashtextextended(:key, 0))", key=key)

    def claim(self, load_id: str) -> bool:
        """See Session."""
        with self.failing("Claiming the load", load_id):
            key = f"splarn load {load_id}"
            found = self.run("SELECT pg_try_advisory_lock(hashtextextended(:key, 0))", key=key)
            return bool(found.scalar_one())

    def settle(self, load_id: str) -> None:
        """See Session."""
        with self.failing("Waiting for the batches of", load_id):
            self.run("SELECT 1 FROM splarn_progress WHERE load_id = :id FOR UPDATE", id=load_id)
            self.commit()

    def empty(self, table: str) -> None:
        """See Session. Quicker than deleting, and as safe, where nothing refers to the table."""
        if any("refers" in tie for tie in self.bound(table)):
            super().empty(table)
            return
        with self.failing("Emptying the table", table):
            self.run(f"TRUNCATE {self.quoted(table)}")

    def clone(self, table: str, copy: str, *, logged: bool = True, indexes: bool = False) -> None:
        """See Session."""
        kind = "TABLE" if logged else "UNLOGGED TABLE"
        with self.failing("Making the table", copy):
            self.run(f"CREATE {kind} {self.quoted(copy)} (LIKE {self.quoted(table)} INCLUDING ALL)")
            self._copy_grants(table, copy)
        if not indexes:
            for index in self.indexes(copy):
                if not index.unique:
                    self.drop_index(copy, index)

    def _copy_grants(self, table: str, copy: str) -> None:
        found = self.run(
            "SELECT privilege_type, coalesce(r.rolname, 'public') FROM pg_class c, "
            "aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee "
            "WHERE c.oid = to_regclass(:name) AND a.grantee <> c.relowner",
            name=self.quoted(table),
        )
        for privilege, role in found.fetchall():
            whom = "PUBLIC" if role == "public" else self.quoted(role, dotted=False)
            self.run(f"GRANT {privilege} ON {self.quoted(copy)} TO {whom}")

    def indexes(self, table: str) -> list[TableIndex]:
        """See Session."""
        with self.failing("Looking at the indexes of", table):
            found = self.run(
                "SELECT c.relname, pg_get_indexdef(i.indexrelid), i.indisunique FROM pg_index i "
                "JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = to_regclass(:name) "
                "AND NOT EXISTS (SELECT 1 FROM pg_constraint WHERE conindid = i.indexrelid) "
                "ORDER BY c.relname",
                name=self.quoted(table),
            )
            return [TableIndex(*row) for row in found]

    def bound(self, table: str) -> list[str]:
        """See Session."""
        with self.failing("Looking at what hangs on", table):
            found = self.run(
                "SELECT DISTINCT 'the view ' || c.relname || ' shows it' FROM pg_depend d "
                "JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class c ON c.oid = r.ev_class "
                "WHERE d.classid = 'pg_rewrite'::regclass AND d.refobjid = to_regclass(:name) "
                "UNION ALL SELECT 'a foreign key of ' || conrelid::regclass || ' refers to it' "
                "FROM pg_constraint WHERE confrelid = to_regclass(:name) AND contype = 'f' "
                "UNION ALL SELECT 'it has the foreign key ' || conname "
                "FROM pg_constraint WHERE conrelid = to_regclass(:name) AND contype = 'f' "
                "UNION ALL SELECT 'it has the trigger ' || tgname "
                "FROM pg_trigger WHERE tgrelid = to_regclass(:name) AND NOT tgisinternal "
                "UNION ALL SELECT 'it owns the sequence ' || d.objid::regclass FROM pg_depend d "
                "WHERE d.refobjid = to_regclass(:name) AND d.deptype = 'a' "
                "AND d.classid = 'pg_class'::regclass "
                "AND (SELECT relkind FROM pg_class WHERE oid = d.objid) = 'S'",
                name=self.quoted(table),
            )
            return [row[0] for row in found]

    def follow_identity(self, table: str, column: str) -> None:
        """See Session."""
        with self.failing("Moving on the numbers of", table):
            self.run(
                "SELECT setval(pg_get_serial_sequence(:name, :column), max("
                f"{self.quoted(column, dotted=False)})) FROM {self.quoted(table)} "
                "HAVING max(1) IS NOT NULL",
                name=self.quoted(table),
                column=column,
            )

    def swap(self, table: str, aside: str, before: str) -> None:
        """See Session. Names of indexes are taken once a schema, so the new ones get new names."""
        super().swap(table, aside, before)
        present = {rest_of_index(index.statement) for index in self.indexes(table)}
        for index in self.indexes(before):
            if not index.unique and rest_of_index(index.statement) not in present:
                with self.failing("Making the indexes of", table):
                    self.run(
                        f"CREATE INDEX ON {self.quoted(table)}{rest_of_index(index.statement)}"
                    )

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """See TablesSession."""
        return super().marking(table, names, statement)[0], self.transaction()

    def transaction(self) -> Marks:
        """The number of the open transaction, which its rows will carry."""
        number = int(self.run("SELECT txid_current() % 4294967296").scalar_one())
        return ((number, number),)

    def within(self, table: str, marks: Marks) -> str:
        """See TablesSession. Rows carry the number of the transaction that brought them."""
        numbers = [str(number) for first, last in marks for number in range(first, last + 1)]
        return f"xmin = ANY('{{{','.join(numbers)}}}'::xid[])"

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

    def __init__(
        self, session: PostgresqlSession, table: str, layout: Layout, names: Sequence[str]
    ) -> None:
        self.session = session
        self.table = table
        self.names = list(names)
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
            and self.names == list(layout.names)
        )
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
        self.into = f"COPY {session.quoted(table)} ({session.listed(names)}) FROM STDIN"
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
                rows = parsed.table.slice(start, stop - start)
                self.copy.write(tabbed(rows.select(self.names)))

    def close(self) -> Marks | None:
        """See Writer."""
        if self.copy is None:
            return ()
        with self.session.failing("Writing to", self.table):
            self._stack.close()
            self.copy = None
            return self.session.transaction()

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

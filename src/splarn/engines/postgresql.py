"""PostgreSQL: COPY from standard input, one connection a stream."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack, suppress
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from splarn.core.engine import TableIndex, Writer
from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.core.names import join_name, schema_and_name, split_name
from splarn.core.reading.parsed import Parsed
from splarn.engines.base import SqlEngine, SqlSession
from splarn.engines.notes import NOTES, notes_table
from splarn.engines.pg_binary import HEADER, TRAILER, can_encode, encode
from splarn.engines.pg_twin import carry, go_on_numbering, take_names, ties
from splarn.engines.tabbed import tabbed


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
    # An update makes a row anew, in a transaction of its own.
    marks_changes = True

    def __init__(self, engine: SqlEngine, connection: Connection) -> None:
        super().__init__(engine, connection)
        self._types: dict[str, dict[str, str]] = {}
        self.copying: CopyWriter | None = None

    def rollback(self) -> None:
        """See Session. A COPY that is under way is given up first: the server waits for its end."""
        if self.copying is not None:
            self.copying.give_up()
        super().rollback()

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Session."""
        return CopyWriter(self, table, names)

    def types(self, table: str) -> dict[str, str]:
        """The server's names of the types of a table's columns."""
        if table not in self._types:
            with self.failing("Looking at the table", table):
                found = self.run(
                    "SELECT attname, format_type(atttypid, NULL) FROM pg_attribute "
                    "WHERE attrelid = to_regclass(:name) AND attnum > 0 AND NOT attisdropped",
                    name=self.quoted(table),
                )
                self._types[table] = {row[0]: row[1] for row in found}
        return self._types[table]

    def canonical(self, table: str) -> str:
        """See Session. The schema that the search path leads to, and the name."""
        pieces = split_name(table)
        with self.failing("Looking for the table", table):
            here, database = self.run("SELECT current_schema(), current_database()").fetchall()[0]
            if len(pieces) == 3 and pieces[0] == database:
                pieces = pieces[1:]
            schema, bare = schema_and_name(join_name(*pieces))
            if schema is None:
                found = self.run(
                    "SELECT nspname FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace "
                    "WHERE c.oid = to_regclass(:name)",
                    name=self.quoted(join_name(bare)),
                ).fetchall()
                schema = found[0][0] if found else here
        if schema is None:
            raise RequestError(
                f"No schema for the table {table} exists in {self.engine.place}: write it like "
                f"public.{table}."
            )
        return join_name(schema, bare)

    def kind(self, table: str) -> str:
        """See Session."""
        with self.failing("Looking for the table", table):
            found = self.run(
                "SELECT relkind::text FROM pg_class WHERE oid = to_regclass(:name)",
                name=self.quoted(table),
            ).fetchall()
        return _KINDS.get(found[0][0], "no table") if found else ""

    def longest_name(self) -> tuple[int, str] | None:
        """See Session."""
        return 63, "bytes"

    def hash_name(self) -> str:
        """See SqlSession."""
        return "pg-text"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See SqlSession."""
        return "hashtextextended(t::text, 0)::numeric"

    def as_text(self, column: str) -> str:
        """See SqlSession."""
        return f"{column}::text"

    def note_schemas(self) -> list[str | None]:
        """See NotesSession."""
        with self.failing("Looking for the notes of", self.engine.place):
            found = self.run(
                "SELECT nspname FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace "
                f"WHERE relname = '{NOTES}' AND relkind = 'r' "
                "AND has_schema_privilege(n.oid, 'USAGE') "
                "AND has_table_privilege(c.oid, 'SELECT') ORDER BY nspname"
            )
            return [row[0] for row in found]

    def _lock_notes(self, schema: str | None) -> None:
        self.run(
            "SELECT pg_advisory_xact_lock(hashtextextended(:key, 0))", key=f"splarn notes {schema}"
        )

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
            for schema in self.note_schemas():
                notes = notes_table(schema)
                mine = sa.select(notes.c.state).where(notes.c.load_id == load_id)
                self.connection.execute(mine.with_for_update()).fetchall()
            self.commit()

    def empty(self, table: str) -> None:
        """See Session. Quicker than deleting, and as safe, where nothing refers to the table."""
        if any("refers" in tie for tie in self.bound(table)):
            super().empty(table)
            return
        with self.failing("Emptying the table", table):
            self.run(f"TRUNCATE {self.quoted(table)}")

    def clone(
        self,
        table: str,
        copy: str,
        *,
        logged: bool = True,
        indexes: bool = False,
        twin: bool = False,
    ) -> None:
        """See Session."""
        kind = "TABLE" if logged else "UNLOGGED TABLE"
        with self.failing("Making the table", copy):
            self.run(f"CREATE {kind} {self.quoted(copy)} (LIKE {self.quoted(table)} INCLUDING ALL)")
            if twin:
                carry(self, table, copy)
        if not indexes:
            for index in self.indexes(copy):
                if not index.unique:
                    self.drop_index(copy, index)

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
            return ties(self, table)

    def follow_identity(self, table: str, column: str) -> str:
        """See Session."""
        with self.failing("Moving on the numbers of", table):
            found = self.run(
                "SELECT pg_get_serial_sequence(:name, :column)",
                name=self.quoted(table),
                column=column,
            ).scalar_one()
            if found is not None:
                last = f"max({self.quoted(column, dotted=False)})"
                sequence = found.replace("'", "''")
                self.run(
                    f"SELECT setval('{sequence}', {last}) FROM {self.quoted(table)} "
                    "HAVING max(1) IS NOT NULL"
                )
        return ""

    def swap(self, table: str, aside: str, before: str) -> None:
        """See Session. The new table is to everybody what the old one was, its names included."""
        there = self.columns(table) is not None
        with self.failing("Swapping in the table", table):
            if there:
                carry(self, table, aside)
                go_on_numbering(self, table, aside)
        super().swap(table, aside, before)
        if there:
            with self.failing("Making the indexes of", table):
                take_names(self, table, before)

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
            # Whole seconds first: a double has no room for the fractions of the last centuries.
            "datetime": f"date_part('epoch', date_trunc('second', {column}))::bigint",
            "time": f"floor(date_part('epoch', {column}))::bigint",
        }
        return f"sum({expressions.get(field.type, column)})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See SqlSession. Booleans have no order of their own."""
        return super().extremes(f"{column}::int" if field.type == "boolean" else column, field)


_KINDS = {
    "r": "table",
    "p": "table",
    "v": "a view",
    "m": "a materialized view",
    "f": "a foreign table",
    "S": "a sequence",
    "i": "an index",
    "I": "an index",
    "c": "a type",
}


class CopyWriter:
    """One COPY, in binary where Splarn knows the form of every column and else as text."""

    def __init__(self, session: PostgresqlSession, table: str, names: Sequence[str]) -> None:
        self.session = session
        self.table = table
        self.names = list(names)
        self.types = [session.types(table).get(name, "") for name in names]
        self.into = f"COPY {session.quoted(table)} ({session.listed(names)}) FROM STDIN"
        self.copy: Any = None
        self.binary = False
        self._stack = ExitStack()

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        rows = parsed.table.slice(start, stop - start).select(self.names)
        data = encode(rows, self.types) if can_encode(rows.schema, self.types) else None
        binary = data is not None
        with self.session.failing("Writing to", self.table):
            if self.copy is None or binary != self.binary:
                self._reopen(binary)
            self.copy.write(tabbed(rows) if data is None else data)

    def close(self) -> Marks | None:
        """See Writer."""
        if self.copy is None:
            return ()
        with self.session.failing("Writing to", self.table):
            self._end()
            return self.session.transaction()

    def give_up(self) -> None:
        """Ends the COPY without what it has brought."""
        self.session.copying, self.copy = None, None
        stack, self._stack = self._stack, ExitStack()
        with suppress(Exception):
            stack.__exit__(RuntimeError, RuntimeError("given up"), None)

    def _end(self) -> None:
        if self.copy is not None and self.binary:
            self.copy.write(TRAILER)
        self.copy = None
        self._stack.close()
        self.session.copying = None

    def _reopen(self, binary: bool) -> None:
        self._end()
        connection = self.session.connection
        if not connection.in_transaction():
            connection.begin()
        cursor = self._stack.enter_context(self.session.driver_connection.cursor())
        how = "FORMAT binary" if binary else "FORMAT text, ENCODING 'UTF8'"
        self.session.copying = self
        self.copy = self._stack.enter_context(cursor.copy(f"{self.into} ({how})"))
        if binary:
            self.copy.write(HEADER)
        self.binary = binary

"""PostgreSQL's rows: COPY from standard input; rows carry the number of their transaction."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack, suppress
from typing import Any

from splarn.core.layout import Layout
from splarn.core.reading.parsed import Parsed
from splarn.core.target.marks import Marks
from splarn.core.target.tables import Tables, Writer
from splarn.core.work.stages import stage
from splarn.engines.postgresql.binary import HEADER, TRAILER, can_encode, encode
from splarn.engines.sql.link import Link
from splarn.engines.sql.rows import SqlRows
from splarn.engines.sql.tabbed import tabbed


class PostgresqlRows(SqlRows):
    """Rows, which are marked by the transactions that brought them."""

    keeping_identity = "OVERRIDING SYSTEM VALUE"
    # An update makes a row anew, in a transaction of its own.
    marks_changes = True

    def __init__(self, link: Link, tables: Tables) -> None:
        super().__init__(link, tables)
        self._types: dict[str, dict[str, str]] = {}
        self.copying: CopyWriter | None = None
        link.before_rollback.append(self._give_up)

    def _give_up(self) -> None:
        """A COPY that is under way is given up first: the server waits for its end."""
        if self.copying is not None:
            self.copying.give_up()

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows."""
        return CopyWriter(self, table, names)

    def types(self, table: str) -> dict[str, str]:
        """The server's names of the types of a table's columns."""
        if table not in self._types:
            with self.link.failing("Looking at the table", table):
                answer = self.link.run(
                    "SELECT attname, format_type(atttypid, NULL) FROM pg_attribute "
                    "WHERE attrelid = to_regclass(:name) AND attnum > 0 AND NOT attisdropped",
                    name=self.link.quoted(table),
                )
                self._types[table] = {row[0]: row[1] for row in answer.rows}
        return self._types[table]

    def empty(self, table: str) -> None:
        """See Rows. Quicker than deleting, and as safe, where nothing refers to the table."""
        if any("refers" in tie for tie in self.tables.ties(table)):
            super().empty(table)
            return
        with self.link.failing("Emptying the table", table):
            self.link.run(f"TRUNCATE {self.link.quoted(table)}")

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """See Rows."""
        return super().marking(table, names, statement)[0], self.transaction()

    def transaction(self) -> Marks:
        """The number of the open transaction, which its rows will carry."""
        number = int(self.link.run("SELECT txid_current() % 4294967296").value)
        return ((number, number),)

    def within(self, table: str, marks: Marks) -> str:
        """See Rows. Rows carry the number of the transaction that brought them."""
        numbers = [str(number) for first, last in marks for number in range(first, last + 1)]
        return f"xmin = ANY('{{{','.join(numbers)}}}'::xid[])"


class CopyWriter:
    """One COPY, in binary where Splarn knows the form of every column and else as text."""

    def __init__(self, rows: PostgresqlRows, table: str, names: Sequence[str]) -> None:
        self.rows = rows
        self.table = table
        self.names = list(names)
        self.types = [rows.types(table).get(name, "") for name in names]
        self.into = f"COPY {rows.link.quoted(table)} ({rows.link.listed(names)}) FROM STDIN"
        self.copy: Any = None
        self.binary = False
        self._stack = ExitStack()

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        taken = parsed.table.slice(start, stop - start).select(self.names)
        with stage("encode"):
            data = encode(taken, self.types) if can_encode(taken.schema, self.types) else None
        binary = data is not None
        with self.rows.link.failing("Writing to", self.table):
            if self.copy is None or binary != self.binary:
                self._reopen(binary)
            self.copy.write(tabbed(taken) if data is None else data)

    def close(self) -> Marks | None:
        """See Writer."""
        if self.copy is None:
            return ()
        with self.rows.link.failing("Writing to", self.table):
            self._end()
            return self.rows.transaction()

    def give_up(self) -> None:
        """Ends the COPY without what it has brought."""
        self.rows.copying, self.copy = None, None
        stack, self._stack = self._stack, ExitStack()
        with suppress(Exception):
            stack.__exit__(RuntimeError, RuntimeError("given up"), None)

    def _end(self) -> None:
        if self.copy is not None and self.binary:
            self.copy.write(TRAILER)
        self.copy = None
        self._stack.close()
        self.rows.copying = None

    def _reopen(self, binary: bool) -> None:
        self._end()
        self.rows.link.begin()
        cursor = self._stack.enter_context(self.rows.link.driver.cursor())
        form = "FORMAT binary" if binary else "FORMAT text, ENCODING 'UTF8'"
        self.rows.copying = self
        self.copy = self._stack.enter_context(cursor.copy(f"{self.into} ({form})"))
        if binary:
            self.copy.write(HEADER)
        self.binary = binary

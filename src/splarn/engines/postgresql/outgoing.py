"""Rows on their way out of PostgreSQL: its own text of them, by the blocks of the table."""

from __future__ import annotations

import ctypes
import sys
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

from splarn.core import kernel
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.reading import read_parsed
from splarn.core.target.outgoing import RowRange, Wanted, unheld
from splarn.engines.sql.declared import DIGITS
from splarn.engines.sql.outgoing import SqlOutgoing

# How messages would call the text, which is in no file.
_NOWHERE = Path("the target")
# Records, or bytes of them, that are passed on at once.
PASSED_ON = 2000
PASSED_ON_BYTES = 256 << 10


def _failed(result: Any) -> Exception | None:
    """The error that a result tells of, in place of the end of the rows."""
    from psycopg import OperationalError, errors
    from psycopg.pq import DiagnosticField, ExecStatus

    if result.status != ExecStatus.FATAL_ERROR:
        return None
    state = (result.error_field(DiagnosticField.SQLSTATE) or b"").decode()
    told = result.error_field(DiagnosticField.MESSAGE_PRIMARY) or result.error_message
    try:
        kind: type[Exception] = errors.lookup(state)
    except KeyError:
        kind = OperationalError
    return kind(told.decode(errors="replace"))


def _records(connection: Any) -> Iterator[tuple[bytes, int]]:
    """What a COPY sends, some records at a time; the driver's own loop takes several times as
    long."""
    from psycopg import Error

    broken: Exception | None = None
    try:
        yield from _messages(connection)
    except Error as error:
        broken = error
    while (result := connection.get_result()) is not None:
        broken = _failed(result) or broken
    if broken is not None:
        raise broken


def _messages(connection: Any) -> Iterator[tuple[bytes, int]]:
    """The messages of a COPY joined, and how many they are. Raises what the driver raises."""
    from psycopg import OperationalError

    library = _library(type(connection).__module__) if kernel.available() else None
    held: list[bytes] = []
    size, record = 1, b""
    while size > 0:
        if library is not None:
            data, count, size = kernel.copied(*library, connection.pgconn_ptr, PASSED_ON_BYTES)
            if count:
                yield data, count
            continue
        size, record = connection.get_copy_data(0)
        if size > 0:
            held.append(bytes(record))
        if held and (size <= 0 or len(held) == PASSED_ON):
            yield b"".join(held), len(held)
            held = []
    if library is not None and size < -1:
        raise OperationalError(connection.error_message.decode(errors="replace").strip())


@cache
def _library(module: str) -> tuple[int, int] | None:
    """Where the client library of the driver has PQgetCopyData and PQfreemem; None where the driver
    is not one that is linked with it."""
    path = getattr(sys.modules[module], "__file__", None) or ""
    if path.endswith(".py"):
        return None
    try:
        # A name is looked for in what the module was linked with, and nowhere else.
        library = ctypes.CDLL(path)
        get, let = library.PQgetCopyData, library.PQfreemem
    except (OSError, AttributeError):
        return None
    found = [ctypes.cast(one, ctypes.c_void_p).value or 0 for one in (get, let)]
    return (found[0], found[1]) if all(found) else None


class PostgresqlOutgoing(SqlOutgoing):
    """By its COPY, of which each message is one record."""

    def hold(self) -> str:
        """See Outgoing. Others join by the name of the snapshot."""
        self._begin("")
        return str(self.link.run("SELECT pg_export_snapshot()").value)

    def join(self, held: str) -> None:
        """See Outgoing."""
        self._begin(held)

    def _begin(self, held: str) -> None:
        self.link.rollback()
        self.link.run("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        if held:
            self.link.run(f"SET TRANSACTION SNAPSHOT '{held}'")
        self.link.run("SET LOCAL datestyle = 'ISO, YMD'")
        self.link.run("SET LOCAL timezone = 'UTC'")
        self.link.run("SET LOCAL extra_float_digits = 1")

    def _declared(self, wanted: Wanted) -> list[tuple[str, str, bool]]:
        """The server's own words for the types of what a statement would answer."""
        cursor = self.link.driver.cursor()
        try:
            cursor.execute(f"SELECT * FROM {self._source(wanted)} LIMIT 0")
            result, columns = cursor.pgresult, cursor.description
            kinds = [(result.ftype(at), result.fmod(at)) for at in range(len(columns))]
        finally:
            cursor.close()
        told = self.link.run(
            "SELECT " + ", ".join(f"format_type({oid}, {mod})" for oid, mod in kinds)
        ).rows[0]
        required: dict[str, bool] = {}
        if wanted.table:
            columns_there = self.known.columns(wanted.table) or ()
            required = {one.name: not one.optional for one in columns_there}
        return [
            (column.name, self._limited(wanted, column.name, str(kind)),
             required.get(column.name, False))
            for column, kind in zip(columns, told, strict=True)
        ]  # fmt: skip

    def _limited(self, wanted: Wanted, name: str, kind: str) -> str:
        """A decimal without limits has those of the values that are there."""
        if kind != "numeric":
            return kind
        column = self.link.quoted(name, dotted=False)
        scale, whole = self.link.run(
            f"SELECT max(scale({column})), max(length(trunc(abs({column}))::text)) "
            f"FROM {self._source(wanted)} WHERE {column} NOT IN ('NaN', 'Infinity', '-Infinity')"
        ).rows[0]
        if scale is None or scale + whole > DIGITS:
            return "text"
        return f"numeric({scale + whole},{scale})"

    def _extent(self, table: str) -> tuple[int, int] | None:
        """See SqlOutgoing. Only a plain table has blocks of its own."""
        blocks = self.link.run(
            "SELECT pg_relation_size(oid) / current_setting('block_size')::bigint FROM pg_class "
            "WHERE oid = CAST(:name AS regclass) AND relkind = 'r' "
            "AND NOT EXISTS (SELECT 1 FROM pg_inherits WHERE inhparent = pg_class.oid)",
            name=self.link.quoted(table),
        ).value
        return None if not blocks else (0, int(blocks))

    def _within(self, rows: RowRange) -> str:
        """See SqlOutgoing."""
        return f"ctid >= '({rows.first},0)'::tid AND ctid < '({rows.end},0)'::tid"

    def _selected(self, field: Field) -> str:
        """See SqlOutgoing. Truths as layouts have them; other types of theirs as their text."""
        name = self.link.quoted(field.name, dotted=False)
        if field.type == "boolean":
            return f"CASE WHEN {name} THEN 'true' WHEN NOT {name} THEN 'false' END AS {name}"
        if field.type == "datetime":
            return f"CAST({name} AS timestamp) AS {name}"
        return name

    def text(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None
    ) -> Iterator[tuple[bytes, int]]:
        """See Outgoing."""
        return self._text(self._statement(wanted, layout, rows), wanted, layout)

    def _text(self, statement: str, wanted: Wanted, layout: Layout) -> Iterator[tuple[bytes, int]]:
        mark = layout.dialect.delimiter.replace("'", "''")
        nothing = layout.dialect.null_markers[-1] if layout.dialect.null_markers else ""
        asked = (
            f"COPY ({statement}) TO STDOUT (FORMAT csv, DELIMITER '{mark}', NULL '{nothing}', "
            "ENCODING 'UTF8')"
        )
        with self._reading(wanted), self.link.driver.cursor() as cursor, cursor.copy(asked):
            yield from _records(self.link.driver.pgconn)

    def typed(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> Iterator[Any]:
        """See Outgoing. Out of the text, by the readers that judge every file."""
        by_text = Layout(layout.name, Dialect(header=False), layout.fields)
        asked = self._statement(wanted, by_text, rows, most)
        blocks = (data for data, _ in self._text(asked, wanted, by_text))
        for parsed in read_parsed(_NOWHERE, "none", by_text, read=lambda *_: blocks):
            if parsed.faults:
                raise unheld(parsed.faults[0])
            yield parsed.table

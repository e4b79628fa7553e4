"""Rows on their way out of an SQL target: by statements, fetched piece by piece."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, suppress
from datetime import UTC, date, datetime, time, timedelta
from decimal import Context, Decimal
from typing import Any

import pyarrow as pa

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.reading.convert import convert_text
from splarn.core.target.outgoing import RowRange, Wanted
from splarn.core.target.tables import Tables
from splarn.engines.sql.declared import DIGITS, field_of
from splarn.engines.sql.link import Concern, Link

# Rows that are fetched at once, and by whose values a type is told that nothing declares.
FETCHED, LOOKED_AT = 20_000, 1000


class SqlOutgoing(Concern):
    """See Outgoing. What differs between engines: where rows lie, and what types are declared."""

    # An expression for the place of a row in its table, empty where there is none.
    place = ""
    # The bits of all whole numbers, where their types do not tell.
    whole_numbers = 0

    def __init__(self, link: Link, tables: Tables) -> None:
        super().__init__(link)
        self.known = tables

    def hold(self) -> str:
        """See Outgoing."""
        self.link.begin()
        return ""

    def join(self, held: str) -> None:
        """See Outgoing."""
        self.link.begin()

    def count(self, wanted: Wanted) -> int:
        """See Outgoing."""
        with self._reading(wanted):
            return int(self.link.run(f"SELECT count(*) FROM {self._source(wanted)}").value)

    def fields(self, wanted: Wanted) -> tuple[Field, ...]:
        """See Outgoing."""
        with self._reading(wanted):
            declared = self._declared(wanted)
        if wanted.names:
            known = {name: (name, kind, required) for name, kind, required in declared}
            declared = [known[name] for name in wanted.names]
        names = [name for name, _, _ in declared]
        twice = next((name for name in names if names.count(name) > 1), "")
        if twice:
            raise RequestError(
                f"The query gives {twice} twice: name each column by AS in the query."
            )
        guessed: dict[str, Field] = {}
        if not all(kind for _, kind, _ in declared):
            guessed = self._guessed(wanted, names)
        return tuple(
            field_of(name, kind, required, self.whole_numbers) if kind else guessed[name]
            for name, kind, required in declared
        )

    def _declared(self, wanted: Wanted) -> list[tuple[str, str, bool]]:
        """Name and declared type of each column, empty where none is, and whether nulls are out."""
        if wanted.query:
            names = self.link.run(f"SELECT * FROM {self._source(wanted)} LIMIT 1").names
            return [(name, "", False) for name in names]
        required = {one.name: not one.optional for one in self.known.columns(wanted.table) or ()}
        told = json.loads(self.known.columns_text(wanted.table))
        return [(name, kind, required.get(name, False)) for name, kind in told]

    def ranges(self, wanted: Wanted, count: int) -> list[RowRange]:
        """See Outgoing."""
        with self._reading(wanted):
            extent = self._extent(wanted.table)
        if extent is None:
            return []
        first, end = extent
        step = max(-(-(end - first) // count), 1)
        return [RowRange(at, min(at + step, end)) for at in range(first, end, step)]

    def _extent(self, table: str) -> tuple[int, int] | None:
        """The places of the table's rows: the first one, and the one behind the last."""
        if not self.place:
            return None
        asked = f"SELECT min({self.place}), max({self.place}) FROM {self.link.quoted(table)}"
        low, high = self.link.run(asked).rows[0]
        return None if low is None else (int(low), int(high) + 1)

    def _source(self, wanted: Wanted) -> str:
        """What stands behind FROM."""
        if wanted.query:
            return f"({wanted.query.strip().rstrip(';')}) AS wanted"
        return self.link.quoted(wanted.table)

    def _statement(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> str:
        """What asks for the rows."""
        listed = ", ".join(self._selected(field) for field in layout.fields)
        where = f" WHERE {self._within(rows)}" if rows is not None else ""
        limit = f" LIMIT {most}" if most is not None else ""
        return f"SELECT {listed} FROM {self._source(wanted)}{where}{limit}"

    def _selected(self, field: Field) -> str:
        """The expression that gives a field's values."""
        return self.link.quoted(field.name, dotted=False)

    def _within(self, rows: RowRange) -> str:
        """The condition that holds for the rows of a range."""
        return f"{self.place} >= {rows.first} AND {self.place} < {rows.end}"

    def typed(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> Iterator[Any]:
        """See Outgoing."""
        with self._reading(wanted):
            for some in self._fetched(self._statement(wanted, layout, rows, most)):
                columns = [
                    arrow_of([row[at] for row in some], field)
                    for at, field in enumerate(layout.fields)
                ]
                yield pa.table(columns, schema=layout.arrow_schema)

    def text(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None
    ) -> Iterator[tuple[bytes, int]] | None:
        """See Outgoing."""
        return None

    def _fetched(self, statement: str) -> Iterator[Sequence[Any]]:
        """What a statement answers, piece by piece."""
        cursor = self._cursor()
        try:
            cursor.execute(statement)
            while rows := cursor.fetchmany(FETCHED):
                yield rows
        finally:
            cursor.close()

    def _cursor(self) -> Any:
        """A cursor whose rows stay with the server until they are fetched."""
        return self.link.driver.cursor()

    def _reading(self, wanted: Wanted) -> AbstractContextManager[None]:
        return self.link.failing("Reading", wanted.table or "the query")

    def _guessed(self, wanted: Wanted, names: Sequence[str]) -> dict[str, Field]:
        """Fields of columns by the values of the first rows."""
        listed = ", ".join(self.link.quoted(name, dotted=False) for name in names)
        with self._reading(wanted):
            asked = f"SELECT {listed} FROM {self._source(wanted)} LIMIT {LOOKED_AT}"
            rows = list(self.link.run(asked).rows)
        return {name: guessed(name, [row[at] for row in rows]) for at, name in enumerate(names)}


def arrow_of(values: list[Any], field: Field) -> Any:
    """Values as a driver gives them, as a column of the field's type, each exactly as it is.

    Raises RequestError for a value that is none of the type.
    """
    kind = field.arrow_type()
    with suppress(pa.ArrowException, TypeError):
        return pa.array(values, kind)
    text = None
    if not field.is_text:
        with suppress(pa.ArrowException, TypeError):
            # Of texts and of floats all at once.
            told = pa.float64() if field.is_decimal else pa.string()
            text = pa.array(values, told).cast(pa.string())
    if text is None:
        with suppress(pa.ArrowException, ArithmeticError, ValueError, TypeError):
            return pa.array([_plain(value, field) for value in values], kind)
        text = pa.array([None if one is None else str(one) for one in values], pa.string())
    if field.is_text:
        return text
    typed, misfit = convert_text(text, field)
    if misfit.any():
        wrong = text[int(misfit.argmax())].as_py()
        raise RequestError(
            f"The column {field.name} holds {wrong!r}, which is no {field.describe()} as it is "
            "declared: give a --query that writes it as text by CAST."
        )
    return typed.cast(kind)


def _plain(value: Any, field: Field) -> Any:
    """A value as Arrow takes it for the field's type."""
    if value is None:
        return None
    if field.is_decimal and not isinstance(value, Decimal):
        return _to_scale(Decimal(str(value)), field)
    if field.type == "boolean" and isinstance(value, int):
        return bool(value)
    if field.type == "number" and isinstance(value, Decimal) and not field.is_decimal:
        return float(value)
    if isinstance(value, datetime) and value.tzinfo is not None:
        return value.astimezone(UTC).replace(tzinfo=None)
    if isinstance(value, timedelta):
        return value // timedelta(microseconds=1)
    return value


def _to_scale(value: Decimal, field: Field) -> Decimal:
    """A decimal with so many digits behind the point. Raises ValueError where that changes it."""
    told = value.quantize(Decimal(1).scaleb(-(field.scale or 0)), context=Context(prec=60))
    if told != value:
        raise ValueError(f"{value} has more digits")
    return told


def guessed(name: str, values: Sequence[Any]) -> Field:
    """A field for values of whose type nothing is declared: that of all of them, else text."""
    kinds = {type(value) for value in values if value is not None}
    if kinds == {int}:
        return Field(name, "integer")
    if kinds and kinds <= {int, float}:
        return Field(name, "number")
    if kinds == {Decimal}:
        exponents = [value.as_tuple().exponent for value in values if value is not None]
        scale = max(-one for one in exponents if isinstance(one, int))
        return Field(name, "number", precision=DIGITS, scale=min(max(scale, 0), DIGITS))
    for kind, ours in ((bool, "boolean"), (datetime, "datetime"), (date, "date"), (time, "time")):
        if kinds == {kind}:
            return Field(name, ours)
    return Field(name)

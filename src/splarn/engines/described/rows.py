"""Rows and figures of a described engine."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import astuple
from decimal import Decimal
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import Unhashed
from splarn.core.target.marks import Marks
from splarn.core.target.tables import ReadBack, Writer
from splarn.engines.described.description import Description
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.tables import DescribedTables, table_values
from splarn.engines.described.templates import Name, Names, Written
from splarn.engines.sql.figures import read_digests
from splarn.engines.sql.link import Concern, Link

# Columns whose figures are asked for in one statement.
AT_ONCE = 200


def mark_of(load_id: str) -> int:
    """A number for the rows of a load, of 62 bits, by which a column of theirs tells them."""
    return int.from_bytes(hashlib.sha256(load_id.encode()).digest()[:8], "big") >> 2


def marks_of(description: Description, load_id: str) -> Marks | None:
    """What tells the rows of a load from others; None where nothing does."""
    mark = mark_of(load_id)
    return ((mark, mark),) if description.statements.brought else None


def where_brought(link: DescribedLink, table: str, marks: Marks | None) -> str:
    """The clause that leaves the marked rows of a table, by statements.brought; all if None."""
    if marks is None:
        return ""
    values, condition = table_values(table), link.description.statements.brought
    brought = [link.quoting.filled(condition, {**values, "mark": mark}) for mark, _ in marks]
    return f" WHERE {' OR '.join(f'({one})' for one in brought) or '1 = 0'}"


class DescribedRows(Concern):
    """See Rows. Marks are numbers of loads, which rows keep where statements.brought says so."""

    link: DescribedLink
    marks_changes = False
    refuses_rows = True

    def __init__(self, link: Link, tables: DescribedTables) -> None:
        super().__init__(link)
        self.tables = tables

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows. Raises RequestError: it reads files itself."""
        raise RequestError(
            f"{self.link.description.engine.name} takes whole parts and no single rows: hand parts "
            "over to it."
        )

    def empty(self, table: str) -> None:
        """See Rows."""
        with self.link.failing("Emptying the table", table):
            self.link.say(self.link.description.statements.empty, **table_values(table))

    def copy(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """See Rows."""
        if names is None:
            kept = {column.name for column in self.tables.columns(into) or ()}
            there = self.tables.columns(source) or ()
            names = [column.name for column in there if column.name in kept]
        with self.link.failing("Moving rows into", into):
            came = self.count(source)
            self.link.say(
                self.link.description.statements.copy_rows,
                into=Name(into), columns=Names(names), **table_values(source),
            )  # fmt: skip
        return came, None

    def remove(self, table: str, marks: Marks) -> int:
        """See Rows."""
        there = self.count(table, marks)
        statement = f"DELETE FROM {self.link.quoting.table(table)}"
        with self.link.failing("Removing rows from", table):
            self.link.run(statement + where_brought(self.link, table, marks))
        # Not every driver tells how many it were.
        return there - self.count(table, marks)

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Rows."""
        with self.link.failing("Counting the rows of", table):
            if marks is not None:
                asked = f"SELECT count(*) FROM {self.link.quoting.table(table)}"
                where = where_brought(self.link, table, marks)
                return self.link.number("statements.brought", self.link.run(asked + where))
            answer = self.link.say(self.link.description.statements.count, **table_values(table))
            return self.link.number("statements.count", answer)

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows."""
        return bool(self.link.description.statements.brought)

    def last_mark(self, table: str) -> int | None:
        """See Rows."""
        return None

    def close(self) -> None:
        """Nothing is under way between statements."""


class DescribedDigests(Concern, Unhashed):
    """Digests by the description's expressions."""

    link: DescribedLink

    def __init__(self, link: Link, tables: DescribedTables) -> None:
        super().__init__(link)
        self.tables = tables

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests."""
        if len(fields) > AT_ONCE:
            return [
                one
                for first in range(0, len(fields), AT_ONCE)
                for one in self.of_columns(table, fields[first : first + AT_ONCE], marks)
            ]
        figures, quoting = self.link.description.figures, self.link.quoting
        parts = ["count(*)"]
        for field in fields:
            column = quoting.name(field.name)
            value = column
            if field.is_text:
                value = quoting.filled(figures.text_bytes, {"column": Written(column)})
            elif field.type in ("boolean", "date", "datetime", "time"):
                template = getattr(figures, field.type)
                value = quoting.filled(template, {"column": Written(column)})
            parts += [f"count({column})", f"sum({value})"]
            if not field.is_text:
                low = value if field.type == "boolean" else column
                parts += [f"min({low})", f"max({low})"]
        with self.link.failing("Reading the digests of", table):
            asked = f"SELECT {', '.join(parts)} FROM {quoting.table(table)}"
            where = where_brought(self.link, table, marks)
            answer = self.link.run(asked + where)
        row: list[Any] = list(answer.rows[0])
        try:
            at = 1
            for field in fields:
                if field.is_decimal:
                    row[at + 1 : at + 4] = [_exact(one, field) for one in row[at + 1 : at + 4]]
                at += 2 if field.is_text else 4
            return read_digests(row, fields)
        except (TypeError, ValueError, ArithmeticError, AttributeError):
            raise self.link.unreadable("figures", "numbers, days and moments", answer) from None

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """See Digests. By the figures of all columns, which most changes change."""
        fields = [
            Field(column.name, column.type if column.type != "any" else "string")
            for column in self.tables.columns(table) or ()
        ]
        told = repr([astuple(one) for one in self.of_columns(table, fields, marks)])
        return f"figures:{hashlib.sha256(told.encode()).hexdigest()[:32]}"

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Digests. Values are held against what was read by their figures alone."""
        return ReadBack()


def _exact(value: Any, field: Field) -> Decimal | None:
    """A decimal as drivers give it: as one, as text, or as a float that is near it."""
    if value is None or isinstance(value, Decimal):
        return value
    return round(Decimal(str(value)), field.scale or 0)

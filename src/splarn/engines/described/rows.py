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
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.tables import DescribedTables, table_values
from splarn.engines.described.templates import Name, Names, Written
from splarn.engines.sql.figures import read_digests
from splarn.engines.sql.link import Concern, Link

# Columns whose figures are asked for in one statement.
AT_ONCE = 200


class DescribedRows(Concern):
    """See Rows. Nothing tells the rows of one load from those of others."""

    link: DescribedLink
    marks_changes = False

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
            names = [column.name for column in self.tables.columns(into) or ()]
        with self.link.failing("Moving rows into", into):
            came = self.count(source)
            self.link.say(
                self.link.description.statements.copy_rows,
                into=Name(into), columns=Names(names), **table_values(source),
            )  # fmt: skip
        return came, None

    def remove(self, table: str, marks: Marks) -> int:
        """See Rows. Raises RequestError: there are no marks."""
        raise RequestError(f"Nothing tells rows of {table} from others in {self.link.place}.")

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Rows."""
        with self.link.failing("Counting the rows of", table):
            answer = self.link.say(self.link.description.statements.count, **table_values(table))
            return int(answer.value)

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows."""
        return False

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
            row: list[Any] = list(self.link.run(asked).rows[0])
        at = 1
        for field in fields:
            if field.is_decimal:
                row[at + 1 : at + 4] = [_exact(one, field) for one in row[at + 1 : at + 4]]
            at += 2 if field.is_text else 4
        return read_digests(row, fields)

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """See Digests. By the figures of all columns, which most changes change."""
        fields = [
            Field(column.name, column.type if column.type != "any" else "string")
            for column in self.tables.columns(table) or ()
        ]
        told = repr([astuple(one) for one in self.of_columns(table, fields)])
        return f"figures:{hashlib.sha256(told.encode()).hexdigest()[:32]}"

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Digests. Values are held against what was read by their figures alone."""
        return ReadBack()


def _exact(value: Any, field: Field) -> Decimal | None:
    """A decimal as drivers give it: as one, as text, or as a float that is near it."""
    if value is None or isinstance(value, Decimal):
        return value
    return round(Decimal(str(value)), field.scale or 0)

"""What a table holds, as figures that the engine computes and rows that are looked for in it."""

from __future__ import annotations

import json
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, ClassVar

import pyarrow.compute as pc

from splarn.core.layout import Dialect, Field, Layout
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import RowSum, Unhashed
from splarn.core.target.marks import Marks
from splarn.core.target.tables import ReadBack, Tables
from splarn.engines.sql.figures import read_digests
from splarn.engines.sql.link import Concern, Link
from splarn.engines.sql.rows import SqlRows

# A table of one session's own, for rows that are looked for.
OWN = "splarn_sample"
# Columns whose digests are asked for in one statement; each takes up to four of its result.
AT_ONCE = 300


class SqlDigests(Concern, Unhashed, ABC):
    """Digests and fingerprints as expressions that the engine computes."""

    def __init__(self, link: Link, tables: Tables, rows: SqlRows) -> None:
        super().__init__(link)
        self.tables = tables
        self.rows = rows

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests."""
        where = None if marks is None else self.rows.within(table, marks)
        return self.where(table, fields, where)

    def where(
        self, table: str, fields: Sequence[Field], condition: str | None
    ) -> list[ColumnDigest]:
        """Digests of the rows for which a condition holds, in one scan for so many columns."""
        if len(fields) > AT_ONCE:
            # Engines limit how many columns a result may have.
            row = []
            for first in range(0, len(fields), AT_ONCE):
                row += self.where(table, fields[first : first + AT_ONCE], condition)
            return row
        parts = ["count(*)"]
        for field in fields:
            column = self.link.quoted(field.name, dotted=False)
            parts += [f"count({column})", self.total(column, field)]
            if not field.is_text:
                parts += self.extremes(column, field)
        where = f" WHERE {condition}" if condition else ""
        with self.link.failing("Reading the digests of", table):
            asked = f"SELECT {', '.join(parts)} FROM {self.link.quoted(table)}{where}"
            row = list(self._asked(asked))
        return read_digests(row, fields)

    def _asked(self, statement: str) -> Sequence[Any]:
        """The only row. By the driver's own cursor: the statement holds no value from outside."""
        cursor = self.link.driver.cursor()
        cursor.execute(statement)
        row: Sequence[Any] = cursor.fetchone()
        cursor.close()
        return row

    def text_bytes(self, column: str) -> str:
        """An SQL expression for how many bytes a text takes as UTF-8."""
        return f"octet_length({column})"

    # What of a value the digest sums, by type; others as they are.
    sums: ClassVar[Mapping[str, str]] = {}

    def total(self, column: str, field: Field) -> str:
        """An SQL expression for a column's sum as its digest has it."""
        if field.is_text:
            return f"sum({self.text_bytes(column)})"
        return f"sum({self.sums.get(field.type, '{}').format(column)})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """SQL expressions for a column's smallest and largest value, which `figure` can read."""
        if field.type == "boolean":
            # Not everywhere have these an order of their own.
            column = self.sums.get("boolean", "{}").format(column)
        return [f"min({column})", f"max({column})"]

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """See Digests. The sum of a hash of each row, so that their order does not matter."""
        condition = None if marks is None else self.rows.within(table, marks)
        return f"{self.hash_name()}:{self.summed(table, self.declared(table), condition).total}"

    def declared(self, table: str) -> list[tuple[str, str]]:
        """Names and types of a table's columns, in their order."""
        pairs = json.loads(self.tables.columns_text(table))
        return [(str(name), str(kind)) for name, kind in pairs]

    def summed(
        self, table: str, declared: Sequence[tuple[str, str]], condition: str | None
    ) -> RowSum:
        """The sum of the hashes of the rows for which a condition holds, by these columns."""
        cells = [
            self.hashed_cell(self.link.quoted(name, dotted=False), kind) for name, kind in declared
        ]
        where = f" WHERE {condition}" if condition else ""
        with self.link.failing("Reading the rows of", table):
            rows, total = self._asked(
                f"SELECT count(*), sum({self.row_hash(cells)}) "
                f"FROM {self.link.quoted(table)} AS t{where}"
            )
        return RowSum(int(rows), int(total or 0))

    @abstractmethod
    def hash_name(self) -> str:
        """How rows are hashed: figures by another way cannot be held against one another."""

    def hashed_cell(self, column: str, declared: str) -> str:
        """An expression for a cell that `row_hash` takes."""
        return column

    @abstractmethod
    def row_hash(self, columns: Sequence[str]) -> str:
        """An expression for a hash of a row's cells, each told from the next and from null."""

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Digests. They go into a table of this session's own, as the engine stores them."""
        key = _most_telling(fields, rows)
        if key is None:
            return ReadBack()
        rows = rows.filter(pc.is_valid(rows.column(key)))
        names = rows.column_names
        listed, wanted = self.link.listed(names), self.link.quoted(key, dotted=False)
        texts = ", ".join(self.as_text(self.link.quoted(name, dotted=False)) for name in names)
        with self.link.failing("Reading rows back from", table):
            try:
                query = f"SELECT {listed} FROM {self.link.quoted(table)} WHERE 1 = 0"
                self.link.run(self.own_table(query, next(f for f in fields if f.name == key)))
                self.fill(OWN, rows)
                missing = self.link.run(
                    f"SELECT {texts} FROM {self.link.quoted(OWN)} EXCEPT SELECT {texts} FROM "
                    f"{self.link.quoted(table)} WHERE {wanted} IN "
                    f"(SELECT {wanted} FROM {self.link.quoted(OWN)})"
                ).rows
            finally:
                self.drop_own()
        absent = (
            {
                name: value.decode(errors="replace") if isinstance(value, bytes) else value
                for name, value in zip(names, row, strict=True)
            }
            for row in missing
        )
        return ReadBack(len(rows), tuple(absent))

    def own_table(self, query: str, key: Field) -> str:
        """The statement that makes a table of this session's own like a query's result.

        Its rows are looked for by their `key`. It must not end the open transaction.
        """
        return f"CREATE TEMPORARY TABLE {self.link.quoted(OWN)} AS {query}"

    def drop_own(self) -> None:
        """Removes that table; where the transaction has failed it goes with it."""
        with suppress(Exception):
            self.link.run(f"DROP TABLE IF EXISTS {self.link.quoted(OWN)}")

    def fill(self, table: str, rows: Any) -> None:
        """Puts the rows of a pyarrow Table into a table."""
        names = rows.column_names
        writer = self.rows.writer(table, Layout(table, Dialect(), (Field("any"),)), names)
        writer.put(Loose(rows), 0, len(rows))  # type: ignore[arg-type]
        writer.close()

    @abstractmethod
    def as_text(self, column: str) -> str:
        """An expression for a value as text to the letter, null for null."""


@dataclass(frozen=True)
class Loose:
    """Typed rows that were read from no file."""

    table: Any


def _most_telling(fields: Sequence[Field], rows: Any) -> str | None:
    """The field that tells most rows apart and can be looked for; None where there is none."""
    known = [
        field for field in fields
        if not field.is_json and not (field.type == "number" and not field.is_decimal)
    ]  # fmt: skip
    unique = [field for field in known if field.unique]
    counts = {
        field.name: pc.count_distinct(rows.column(field.name), mode="only_valid").as_py()
        for field in unique or known
    }
    # A number is looked for more quickly than a text.
    best = sorted(known, key=lambda field: (-counts.get(field.name, 0), field.is_text))
    return best[0].name if best and counts.get(best[0].name) else None

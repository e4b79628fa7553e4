"""SQLite's digests; sums that its integers cannot hold are made with Python's."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Callable, Sequence
from contextlib import suppress
from decimal import Decimal
from typing import Any

from splarn.core import kernel
from splarn.core.errors import OutsideError
from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest, scaled
from splarn.core.target.hashing import RowHasher, RowSum
from splarn.core.target.marks import Marks
from splarn.core.target.tables import Tables
from splarn.engines.sql.digests import OWN
from splarn.engines.sql.halves import HalvedDigests
from splarn.engines.sql.link import Link
from splarn.engines.sqlite.hashing import MOST_CELLS, SqliteHasher, of_file
from splarn.engines.sqlite.rows import SqliteRows
from splarn.engines.sqlite.stored import FLOAT_DIGITS, stored_column

# Arguments that a function of SQLite takes at most, and fewer.
MOST_ARGUMENTS = 60
# How fingerprints by the kernel's hashes of cells are told from others.
CELLS = "sqlite-cells"


class SqliteDigests(HalvedDigests):
    """Digests by functions that are made in each connection; `reconnect` gives another one."""

    rows: SqliteRows

    def __init__(
        self, link: Link, tables: Tables, rows: SqliteRows, reconnect: Callable[[], Link]
    ) -> None:
        super().__init__(link, tables, rows, reconnect)
        self._long_sums = self._long_made = self._hash_made = self._bytes_made = False
        self._cells_made = False

    def hashed_cell(self, column: str, declared: str) -> str:
        """See Digests. JSON has no bytes."""
        return f"hex({column})" if "BLOB" in declared.upper() or not declared else column

    def hasher(self, table: str, names: Sequence[str]) -> RowHasher | None:
        """See Digests. Bytes that SQLite would have as UTF-16 are not hashed here."""
        if not self._hashes_cells(len(names)) or not self.rows.is_utf8:
            return None
        return SqliteHasher(self.rows.stored_as(table, names), names)

    def row_sum(
        self,
        table: str,
        names: Sequence[str],
        marks: Marks | None = None,
        uncommitted: bool = False,
    ) -> RowSum | None:
        """See Digests. From the file where that can be, else by a function, which takes longer."""
        with self.link.failing("Reading the rows of", table):
            found = of_file(self.link, table, names, marks)
            if found is not None:
                return found
            if not self._cells_made:
                self.link.driver.create_function(
                    "splarn_cells", -1, kernel.cell_hash, deterministic=True
                )
                self._cells_made = True
            where = "" if marks is None else f" WHERE {self.rows.within(table, marks)}"
            rows, total = self._asked(
                f"SELECT count(*), sum(splarn_cells({self.link.listed(names)})) "
                f"FROM {self.link.quoted(table)}{where}"
            )
        return RowSum(int(rows), int(total or 0))

    def _hashes_cells(self, columns: int) -> bool:
        return kernel.available() and columns <= MOST_CELLS

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """See Digests."""
        names = [name for name, _ in self.declared(table)]
        if self._hashes_cells(len(names)) and not like.startswith(f"{self.hash_name()}:"):
            found = self.row_sum(table, names, marks)
            assert found is not None, "it hashes any cells"
            return f"{CELLS}:{found.total}"
        return super().fingerprint(table, marks, like)

    def sum_as_fingerprint(self, table: str, names: Sequence[str], found: RowSum) -> str | None:
        """See Digests."""
        declared = [name for name, _ in self.declared(table)]
        return f"{CELLS}:{found.total}" if declared == list(names) else None

    def hash_name(self) -> str:
        """See Digests."""
        return "sqlite-crc32"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests."""
        if not self._hash_made:
            self.link.driver.create_function("splarn_crc", 1, zlib.crc32, deterministic=True)
            self._hash_made = True
        # One call for many cells is much quicker than joining them one by one.
        groups = [
            columns[at : at + MOST_ARGUMENTS] for at in range(0, len(columns), MOST_ARGUMENTS)
        ]
        cells = " || ".join(f"json_array({', '.join(group)})" for group in groups)
        return f"splarn_crc(CAST({cells} AS BLOB))"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"quote({column})"

    def own_table(self, query: str, key: Field) -> str:
        """See Digests."""
        return f"CREATE TEMPORARY TABLE {OWN} AS {query}"

    def drop_own(self) -> None:
        """See Digests."""
        with suppress(Exception):
            self.link.run(f"DROP TABLE IF EXISTS temp.{OWN}")

    def fill(self, table: str, rows: Any) -> None:
        """See Digests."""
        columns = [stored_column(column).to_pylist() for column in rows.columns]
        marks = ", ".join("?" * len(columns))
        self.link.driver.executemany(
            f"INSERT INTO temp.{table} VALUES ({marks})", zip(*columns, strict=True)
        )

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests. Sums that SQLite's integers cannot hold are made with Python's."""
        try:
            return super().of_columns(table, fields, marks)
        except OutsideError as error:
            if self._long_sums or "integer overflow" not in str(error):
                raise
        self._long_sums = True
        return super().of_columns(table, fields, marks)

    def halves(self, table: str, fields: Sequence[Field]) -> tuple[str, str] | None:
        """See HalvedDigests. Not where this connection has changed what the other cannot see."""
        rows = self.rows.last_row(table) or 0
        if rows < self.worth_two or self.link.driver.total_changes or self._long_sums:
            return None
        return f"_rowid_ <= {rows // 2}", f"_rowid_ > {rows // 2}"

    def total(self, column: str, field: Field) -> str:
        """See Digests. Decimals are stored as floats; as whole numbers their sum is exact."""
        if is_long(field):
            return self._long("sum", column, field)
        if field.is_text:
            return self._summed(self.text_bytes(column))
        expressions = {
            "number": _whole(column, field) if field.is_decimal else column,
            "datetime": _seconds(column),
            "date": f"({_seconds(column)}) / 86400",
            "time": _seconds(f"'1970-01-01 ' || {column}"),
        }
        return self._summed(expressions.get(field.type, column))

    def text_bytes(self, column: str) -> str:
        """See SqlDigests. A database may keep text as UTF-16, which SQLite counts as it is."""
        if self.rows.is_utf8:
            return f"length(CAST({column} AS BLOB))"
        if not self._bytes_made:
            self.link.driver.create_function("splarn_bytes", 1, _utf8_bytes, deterministic=True)
            self._bytes_made = True
        return f"splarn_bytes({column})"

    def _summed(self, value: str) -> str:
        return self._long("sum", value, None) if self._long_sums else f"sum({value})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See Digests. Dates and times are ISO 8601 text, which orders as they do."""
        if is_long(field):
            return [self._long(end, column, field) for end in ("min", "max")]
        ends = super().extremes(column, field)
        return [_whole(value, field) for value in ends] if field.is_decimal else ends

    def _long(self, what: str, value: str, field: Field | None) -> str:
        """An aggregate of numbers of any length, computed outside SQLite."""
        if not self._long_made:
            for name, choose in (("sum", None), ("min", min), ("max", max)):
                kind = type(f"Long{name}", (_LongAggregate,), {"choose": choose})
                self.link.driver.create_aggregate(f"splarn_{name}", 2, kind)
            self._long_made = True
        return f"splarn_{what}({value}, {(field.scale or 0) if field else 0})"


def _utf8_bytes(value: Any) -> int | None:
    return None if value is None else len(str(value).encode())


class _LongAggregate:
    """Sum or extreme of numbers written as text, as a whole number written as text."""

    choose: Any = None

    def __init__(self) -> None:
        self.found: int | None = None

    def step(self, value: Any, scale: int) -> None:
        if value is None:
            return
        whole = scaled(Decimal(value), scale)
        if self.found is None:
            self.found = whole
        else:
            choose = type(self).choose
            self.found = choose(self.found, whole) if choose else self.found + whole

    def finalize(self) -> str | None:
        return None if self.found is None else str(self.found)


def is_long(field: Field) -> bool:
    """Whether a decimal has more digits than a float keeps, and so is stored as text."""
    return field.precision is not None and field.precision > FLOAT_DIGITS


def _whole(value: str, field: Field) -> str:
    return f"CAST(round({value} * {10 ** (field.scale or 0)}) AS INTEGER)"


def _seconds(value: str) -> str:
    """Seconds since 1970 of ISO 8601 text, without a fraction, which would be rounded."""
    convert = "unixepoch({})"
    if sqlite3.sqlite_version_info < (3, 38):
        convert = "CAST(strftime('%s', {}) AS INTEGER)"
    short = convert.format(f"substr({value}, 1, 19)")
    return f"CASE WHEN length({value}) > 19 THEN {short} ELSE {convert.format(value)} END"

"""How typed rows are stored in an SQLite table: values, affinities and statements."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core import kernel
from splarn.core.kernel import Source, source_of
from splarn.core.reading.text import value_text
from splarn.engines.sql.row_bytes import flat
from splarn.engines.sqlite.image import image, image_of

# Decimal digits that a double keeps whatever they are.
FLOAT_DIGITS = 15


@dataclass(frozen=True)
class StoredColumn:
    """A column as its table declares it."""

    name: str
    declared: str
    required: bool

    @property
    def affinity(self) -> str:
        """What SQLite prefers to store in it (SQLite documentation, "Datatypes", 3.1)."""
        kind = self.declared.upper()
        for marks, affinity in (
            (("INT",), "integer"),
            (("CHAR", "CLOB", "TEXT"), "text"),
            (("REAL", "FLOA", "DOUB"), "real"),
        ):
            if any(mark in kind for mark in marks):
                return affinity
        return "any" if not kind or "BLOB" in kind else "numeric"

    def keeps(self, kind: Any) -> bool:
        """Whether values of an Arrow type are stored as they are, floats as in an image."""
        if pa.types.is_string(kind):
            # Dates and times in a numeric column look like no number and stay text.
            return self.affinity in ("text", "any") or self.declared.upper() in _DATES
        if pa.types.is_floating(kind):
            return self.affinity in ("numeric", "real")
        return self.affinity in ("numeric", "integer", "real")


_DATES = ("DATE", "DATETIME", "TIME", "TIMESTAMP")


class TableShape:
    """A table whose columns of these names are filled; `table` is quoted."""

    def __init__(self, table: str, columns: Sequence[StoredColumn], names: Sequence[str]) -> None:
        by_name = {column.name: column for column in columns}
        # In the table's own order SQLite can move whole records.
        self.columns = [column for column in columns if column.name in names]
        self.names = [column.name for column in self.columns]
        self.whole = len(self.columns) == len(by_name)
        self.table = table
        self._listed = ", ".join(_quoted(name) for name in self.names)
        marks = ", ".join("?" * len(self.names))
        self.insert = f"INSERT INTO {table} ({self._listed}) VALUES ({marks})"

    def image(self, rows: Any) -> bytes | None:
        """The rows as a database image, or None where values would not be stored as they are."""
        if not self.keeps_all(rows):
            return None
        # Rules that the table has and this one lacks are checked as the rows are moved.
        columns = ", ".join(
            f"{_quoted(column.name)} {column.declared}"
            + (" NOT NULL" if column.required and not array.null_count else "")
            for column, array in zip(self.columns, rows.columns, strict=True)
        )
        statement = f"CREATE TABLE r({columns})"
        if kernel.available():
            return image_of(statement, len(rows), self.sources(rows, self.names) or [])
        values = [stored_column(column) for column in rows.columns]
        exact = [column.affinity == "numeric" for column in self.columns]
        return image(statement, values, exact)

    def keeps_all(self, rows: Any) -> bool:
        """Whether all values of these columns are stored as they are."""
        types = (rows.schema.field(name).type for name in self.names)
        return all(
            column.keeps(stored_type(kind))
            for column, kind in zip(self.columns, types, strict=True)
        )

    def sources(self, rows: Any, names: Sequence[str]) -> list[Source] | None:
        """The columns of these names as the kernel takes them; None where values would change."""
        if not self.keeps_all(rows):
            return None
        by_name = {column.name: column for column in self.columns}
        return [
            _source(flat(rows.column(name)), by_name[name].affinity == "numeric") for name in names
        ]

    def move_from(self, name: str) -> str:
        """The statement that moves an image's rows into the table."""
        if self.whole:
            return f"INSERT INTO {self.table} SELECT * FROM {name}.r"
        return f"INSERT INTO {self.table} ({self._listed}) SELECT {self._listed} FROM {name}.r"


def _source(array: Any, whole: bool) -> Source:
    kind = array.type
    if pa.types.is_signed_integer(kind):
        return source_of(kernel.INTEGER, kind.bit_width, array)
    if pa.types.is_boolean(kind):
        return source_of(kernel.BOOLEAN, 0, array)
    if pa.types.is_decimal128(kind) and kind.precision <= FLOAT_DIGITS and kind.scale >= 0:
        return source_of(kernel.DECIMAL, int(whole) << 8 | kind.scale, array)
    if pa.types.is_date32(kind):
        return source_of(kernel.DATE, 0, array)
    if pa.types.is_timestamp(kind):
        return source_of(kernel.STAMP, 0, array.cast(pa.timestamp("us")))
    if pa.types.is_time(kind):
        return source_of(kernel.TIME, 0, array.cast(pa.time64("us")))
    array = flat(stored_column(array))
    if pa.types.is_floating(array.type):
        return source_of(kernel.FLOAT, int(whole) << 8, array.cast(pa.float64()))
    if pa.types.is_integer(array.type):
        return source_of(kernel.INTEGER, 64, array.cast(pa.int64()))
    return source_of(kernel.TEXT, 0, array)


def stored_type(kind: Any) -> Any:
    """The Arrow type of a column as SQLite stores it."""
    if pa.types.is_decimal(kind):
        return pa.string() if kind.precision > FLOAT_DIGITS else pa.float64()
    if pa.types.is_boolean(kind):
        return pa.int8()
    return pa.string() if pa.types.is_temporal(kind) else kind


def stored_column(column: Any) -> Any:
    """Values as SQLite stores them: numbers, and dates and times as ISO 8601 text."""
    kind = column.type
    if pa.types.is_decimal(kind):
        return column.cast(pa.string()) if kind.precision > FLOAT_DIGITS else as_doubles(column)
    if pa.types.is_boolean(kind):
        return column.cast(pa.int8())
    if pa.types.is_temporal(kind):
        return value_text(column)
    return column


def as_doubles(column: Any) -> Any:
    """Decimals of up to 15 digits as the doubles nearest to them.

    Whole numbers and powers of ten of that size are doubles themselves, so that one division, which
    IEEE 754 rounds to the nearest, gives the nearest; Arrow's own cast does not.
    """
    scale = column.type.scale
    chunks = column.chunks if isinstance(column, pa.ChunkedArray) else [column]
    doubles = []
    for chunk in chunks:
        whole = _unscaled(chunk)
        values = whole.astype(np.float64) / float(10**scale) if scale > 0 else whole.astype(float)
        missing = np.asarray(chunk.is_null()) if chunk.null_count else None
        doubles.append(pa.array(values, pa.float64(), mask=missing))
    return pa.chunked_array(doubles, pa.float64())


def _unscaled(chunk: Any) -> Any:
    """The digits of decimals of up to 18 digits as integers; what is null may be anything."""
    if pa.types.is_decimal128(chunk.type):
        words = np.frombuffer(chunk.buffers()[1], dtype=np.int64)
        return words[2 * chunk.offset : 2 * (chunk.offset + len(chunk)) : 2]
    return np.array(
        [0 if v is None else int(v.scaleb(chunk.type.scale)) for v in chunk.to_pylist()]
    )


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'

"""Columns of lake tables: types of the Iceberg specification, of Arrow, and of our fields."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import xxhash

from splarn.core import kernel
from splarn.core.kernel import source_of
from splarn.core.layout import Field
from splarn.core.target.hashing import RowSum

_ARROW: dict[str, Any] = {
    "boolean": pa.bool_(), "int": pa.int32(), "long": pa.int64(), "float": pa.float32(),
    "double": pa.float64(), "date": pa.date32(), "time": pa.time64("us"),
    "timestamp": pa.timestamp("us"), "timestamptz": pa.timestamp("us", "UTC"),
    "string": pa.string(), "binary": pa.binary(),
}  # fmt: skip
_FIELDS = {
    "boolean": "boolean", "int": "integer", "long": "integer", "float": "number",
    "double": "number", "date": "date", "time": "time", "timestamp": "datetime",
    "timestamptz": "datetime", "string": "string",
}  # fmt: skip
_DECIMAL = re.compile(r"decimal\((\d+), ?(\d+)\)")
FIELD_ID = b"PARQUET:field_id"


@dataclass(frozen=True)
class LakeColumn:
    """A column of a table by the number that its files know it by; `type` as Iceberg writes it."""

    name: str
    type: str
    number: int
    required: bool = False

    @property
    def arrow_type(self) -> Any:
        """The Arrow type of its values; None where they cannot be held here."""
        if found := _DECIMAL.fullmatch(self.type):
            return pa.decimal128(int(found[1]), int(found[2]))
        return _ARROW.get(self.type)

    @property
    def field_type(self) -> str:
        """The type in ours, `any` where there is none."""
        return "number" if _DECIMAL.fullmatch(self.type) else _FIELDS.get(self.type, "other")

    def field(self) -> Field:
        """A field that holds every value of it."""
        decimal = _DECIMAL.fullmatch(self.type)
        return Field(
            self.name,
            self.field_type,
            precision=int(decimal[1]) if decimal else None,
            scale=int(decimal[2]) if decimal else None,
            bits=32 if self.type == "int" else 64,
        )


def columns_of(fields: Iterable[Field], first: int) -> tuple[LakeColumn, ...]:
    """Columns for fields, numbered from `first` on."""
    return tuple(
        LakeColumn(field.name, iceberg_type(field), number)
        for number, field in enumerate(fields, first)
    )


def iceberg_type(field: Field) -> str:
    """What a field's values are stored as."""
    if field.is_decimal:
        return f"decimal({field.precision}, {field.scale or 0})"
    if field.type == "integer":
        return "long" if field.bits == 64 else "int"
    if field.is_instant or field.is_epoch:
        return "timestamptz"
    kinds = {"number": "double", "boolean": "boolean", "date": "date", "time": "time",
             "datetime": "timestamp"}  # fmt: skip
    return kinds.get(field.type, "string")


def schema_of(columns: Sequence[LakeColumn]) -> Any:
    """The Arrow schema of a table's files."""
    return pa.schema(
        pa.field(one.name, one.arrow_type, not one.required, {FIELD_ID: str(one.number).encode()})
        for one in columns
    )


def stored(rows: Any, columns: Sequence[LakeColumn]) -> Any:
    """Rows as a table's files have them: its columns in order, those that are not given empty."""
    schema, given = schema_of(columns), set(rows.column_names)
    arrays = []
    for field in schema:
        if field.name not in given:
            arrays.append(pa.nulls(len(rows), field.type))
            continue
        column = rows.column(field.name)
        arrays.append(column if column.type == field.type else _cast(column, field.type))
    return pa.Table.from_arrays(arrays, schema=schema)


def _cast(column: Any, kind: Any) -> Any:
    if pa.types.is_string(kind) and pa.types.is_temporal(column.type):
        from splarn.core.reading.text import value_text

        return value_text(column)
    return column.cast(kind)


class LakeHasher:
    """Hashes rows by the cells that their files hold."""

    def __init__(self, columns: Sequence[LakeColumn]) -> None:
        self.columns = columns

    def sum_of(self, rows: Any) -> RowSum | None:
        """See RowHasher."""
        return row_sum(stored(rows, self.columns))


def row_sum(rows: Any) -> RowSum | None:
    """The sum of the hashes of an Arrow table's rows; None where nothing here hashes them."""
    if not kernel.available():
        return None
    total = 0
    for batch in rows.combine_chunks().to_batches():
        total += kernel.value_hashes(len(batch), [_source(column) for column in batch.columns])
    return RowSum(len(rows), total)


def slow_row_sum(rows: Any) -> RowSum:
    """The same by Python alone, of rows of every kind; its hashes are not those of `row_sum`."""
    total = sum(
        xxhash.xxh3_64_intdigest(repr(tuple(row.values())).encode("utf-8", "surrogatepass"))
        for row in rows.to_pylist()
    )
    return RowSum(len(rows), total)


def _source(array: Any) -> Any:
    kind = array.type
    if pa.types.is_integer(kind):
        return source_of(kernel.INTEGER, kind.bit_width, array)
    if pa.types.is_boolean(kind):
        return source_of(kernel.BOOLEAN, 0, array)
    if pa.types.is_decimal128(kind):
        return source_of(kernel.DECIMAL, kind.scale, array)
    if pa.types.is_date32(kind):
        return source_of(kernel.DATE, 0, array)
    if pa.types.is_timestamp(kind):
        return source_of(kernel.STAMP, 0, array)
    if pa.types.is_time(kind):
        return source_of(kernel.TIME, 0, array)
    if pa.types.is_floating(kind):
        return source_of(kernel.FLOAT, 0, array.cast(pa.float64()))
    return source_of(kernel.TEXT, 0, array.cast(pa.string()))

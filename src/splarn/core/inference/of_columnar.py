"""The layout of Parquet files, which say their types themselves."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.inference.column_types import Seen, look_at
from splarn.core.layout.dialect import LINES
from splarn.core.layout.fields import Field, Layout
from splarn.core.reading.text import value_text
from splarn.core.source.places import Place

SAMPLED = 10_000


def infer_columnar(
    paths: Sequence[Place], name: str, flatten: bool = False
) -> tuple[Layout, int, tuple[str, ...], tuple[Seen, ...]]:
    """Layout, records sampled, doubts and what each field held.

    With `flatten`, nested columns become fields of their own, named by points.
    Raises OutsideError when a file cannot be read.
    """
    from splarn.core.reading.columnar import open_parquet

    notes: list[str] = []
    first: pa.Schema | None = None
    tables = []
    for path in paths:
        with open_parquet(path) as file:
            schema = file.schema_arrow
            if first is None:
                first = schema
            elif not schema.equals(first):
                notes.append(f"{path.name} has another schema than {paths[0].name}")
                continue
            batch = next(file.iter_batches(batch_size=SAMPLED // len(paths) + 1), None)
            if batch is not None:
                tables.append(pa.Table.from_batches([batch]))
    assert first is not None, "there is a file"
    table = pa.concat_tables(tables) if tables else first.empty_table()
    while flatten and any(pa.types.is_struct(column.type) for column in table.schema):
        table = table.flatten()
    fields = tuple(_field(column, notes) for column in table.schema)
    for column, values in zip(table.schema, table.columns, strict=True):
        odd = pc.sum(pc.is_nan(values)).as_py() if pa.types.is_floating(column.type) else 0
        if odd:
            notes.append(
                f"{column.name}: NaN in {odd:,} of {len(values):,} sampled rows read as no value"
            )
    seen = tuple(
        look_at(field.name, _texts(column))
        for field, column in zip(fields, table.columns, strict=True)
    )
    return Layout(name, LINES, fields, "parquet"), len(table), tuple(notes), seen


def _texts(column: pa.ChunkedArray) -> list[str | None]:
    from splarn.core.reading.columnar import nested_text

    try:
        texts: list[str | None] = value_text(column).to_pylist()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        texts = [None if value is None else nested_text(value) for value in column.to_pylist()]
    return texts


def _field(column: pa.Field, notes: list[str]) -> Field:
    kind = column.type.value_type if pa.types.is_dictionary(column.type) else column.type
    required = not column.nullable
    name = column.name
    if pa.types.is_integer(kind):
        width = kind.bit_width * (2 if pa.types.is_unsigned_integer(kind) else 1)
        if width > 64:
            return Field(name, "number", required=required, precision=20, scale=0)
        return Field(name, "integer", required=required, bits=max(width, 16))
    if pa.types.is_decimal(kind):
        if kind.precision > 38:
            notes.append(f"{name}: decimals of {kind.precision} digits; taken as text")
            return Field(name, required=required)
        return Field(name, "number", required=required, precision=kind.precision, scale=kind.scale)
    if pa.types.is_timestamp(kind):
        if kind.tz is not None:
            notes.append(f"{name}: instants in {kind.tz}; loaded as UTC")
        return Field(name, "datetime", required=required)
    for is_kind, word in (
        (pa.types.is_floating, "number"),
        (pa.types.is_boolean, "boolean"),
        (pa.types.is_date, "date"),
        (pa.types.is_time, "time"),
        (pa.types.is_struct, "object"),
        (pa.types.is_list, "array"),
        (pa.types.is_large_list, "array"),
        (pa.types.is_map, "array"),
    ):
        if is_kind(kind):
            return Field(name, word, required=required)
    if not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
        notes.append(f"{name}: values of the type {kind} are read as text")
    return Field(name, required=required)

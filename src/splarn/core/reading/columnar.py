"""Typed columns out of Parquet files; positions there are row numbers."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import parquet

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Field, Layout
from splarn.core.reading.constraints import Constraint
from splarn.core.reading.convert import out_of_years, without_nan
from splarn.core.reading.delimited import careful_values
from splarn.core.reading.faults import Fault, shorten
from splarn.core.reading.parsed import Blamer, MakeFault, Parsed, constrained
from splarn.core.source.places import Place
from splarn.core.source.ranges import Range
from splarn.core.work.disk import outside

BATCH = 65_536


@contextmanager
def open_parquet(path: Place) -> Iterator[Any]:
    """A pyarrow.parquet.ParquetFile. Raises OutsideError when it cannot be read or is damaged."""
    file = None
    try:
        with outside(f"Reading {path}"):
            file = None if isinstance(path, Path) else path.open("rb")
            yield parquet.ParquetFile(str(path) if file is None else file)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise _damaged(path, error) from None
    except OutsideError as error:
        # Arrow reports damage inside pages as an OSError without a number.
        cause = error.__cause__
        if isinstance(cause, OSError) and cause.errno is None:
            raise _damaged(path, cause) from None
        raise
    finally:
        if file is not None:
            file.close()


def _damaged(path: Place, error: Exception) -> OutsideError:
    reason = (str(error).splitlines() or [type(error).__name__])[0].rstrip(".")
    return OutsideError(f"{path} is damaged: {reason}; fetch it again from where it came.")


def cut_rows(path: Place, size: int) -> list[Range]:
    """Ranges of rows of about `size` bytes as they would be unpacked."""
    with open_parquet(path) as file:
        rows = file.metadata.num_rows
        groups = [file.metadata.row_group(i) for i in range(file.metadata.num_row_groups)]
        raw = sum(group.total_byte_size for group in groups)
    total = path.stat().st_size
    if not rows:
        return [Range(0, 0, total)]
    parts = max(-(-raw // size), 1)
    edges = sorted({round(rows * number / parts) for number in range(parts + 1)})
    return [Range(start, end, total * (end - start) // rows) for start, end in pairwise(edges)]


def read_rows(path: Place, layout: Layout, start: int = 0, end: int | None = None) -> Iterator[Any]:
    """Tables of rows `start` to `end`, the layout's columns only.

    Raises RequestError when the file lacks a column, OutsideError when it is damaged.
    """
    with open_parquet(path) as file:
        present = file.schema_arrow.names
        check_columns(path, present, layout)
        columns = list(dict.fromkeys(_top(name, present) for name in layout.names))
        before = 0
        for number in range(file.metadata.num_row_groups):
            rows = file.metadata.row_group(number).num_rows
            low, high = before, before + rows
            before = high
            if high <= start:
                continue
            if end is not None and low >= end:
                return
            at = low
            for batch in file.iter_batches(batch_size=BATCH, row_groups=[number], columns=columns):
                first = max(start - at, 0)
                last = len(batch) if end is None else min(end - at, len(batch))
                at += len(batch)
                if first < last:
                    table = pa.Table.from_batches([batch]).slice(first, last - first)
                    yield _flattened(table, layout)


def _top(name: str, present: list[str]) -> str:
    """The column that a name leads into, where points in it mean nested fields."""
    return name if name in present else name.partition(".")[0]


def _flattened(table: Any, layout: Layout) -> Any:
    """The layout's columns; those within nested ones are taken out of them."""
    while not set(layout.names) <= set(table.column_names):
        flat = table.flatten()
        if flat.column_names == table.column_names:
            break
        table = flat
    return table.select(list(layout.names))


def check_columns(path: Place, present: list[str], layout: Layout) -> None:
    """Raises RequestError when a column of the layout is not there."""
    missing = [name for name in layout.names if _top(name, present) not in present]
    if missing:
        raise RequestError(
            f"{path} lacks the column {missing[0]!r} of the layout {layout.name!r}: use the layout "
            "that belongs to it or infer one with `splarn layout`."
        )


def parse_rows(
    path: Place, layout: Layout, start: int = 0, end: int | None = None
) -> Iterator[Parsed]:
    """The rows `start` to `end` as the layout has them, and the faults of those that do not fit."""
    rules = [Constraint(field) for field in layout.fields if field.is_constrained]
    required = [field for field in layout.fields if field.required]
    row = 0
    with open_parquet(path) as file:
        width = path.stat().st_size / max(file.metadata.num_rows, 1)
    for table in read_rows(path, layout, start, end):
        make = _faults_of(path, table, row)
        blame = Blamer(make)
        rows = np.arange(len(table))
        columns = []
        for field in layout.fields:
            columns.append(_fitted(table.column(field.name), field, rows, blame))
        for field, column in zip(layout.fields, columns, strict=True):
            if field in required and column.null_count:
                for index in np.flatnonzero(np.asarray(column.is_null())).tolist():
                    blame(index, field.name, "required", None, "empty where required")
        typed = pa.table(columns, schema=layout.arrow_schema)
        keep = blame.kept(rows) if blame.faults else None
        good = rows if keep is None else rows[keep]
        typed = typed if keep is None else typed.filter(pa.array(keep))
        at = start + row
        parsed = Parsed(
            row=row,
            rows=len(rows),
            offset=at,
            end=at + len(rows),
            size=round(width * len(rows)),
            table=typed,
            good=good,
            faults=blame.ordered(),
        )
        yield constrained(parsed, rules, make) if rules else parsed
        row += len(rows)


def _fitted(column: Any, field: Field, rows: Any, blame: Blamer) -> Any:
    """A column in the field's type; what cannot be cast is judged value by value."""
    wanted = field.arrow_type()
    if pa.types.is_floating(column.type):
        column = without_nan(column)
    if column.type == wanted and not field.is_converted:
        return _storable(column, field, rows, blame)
    if pa.types.is_nested(column.type) or pa.types.is_map(column.type):
        texts = [None if value is None else nested_text(value) for value in column.to_pylist()]
        return careful_values(pa.array(texts, pa.string()), field, rows, blame)
    if pa.types.is_binary(column.type) or pa.types.is_large_binary(column.type):
        return careful_values(_decoded(column, field, rows, blame), field, rows, blame)
    if pa.types.is_timestamp(column.type) and column.type.unit == "ns":
        column = _without_nanoseconds(column, field, rows, blame)
    if not field.is_converted:
        try:
            return _storable(column.cast(wanted), field, rows, blame)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            pass
    return careful_values(column.cast(pa.string()), field, rows, blame)


def _without_nanoseconds(column: Any, field: Field, rows: Any, blame: Blamer) -> Any:
    """Moments in microseconds; those that need more digits are faults."""
    parts = column.cast(pa.int64())
    odd = pc.not_equal(pc.multiply(pc.divide(parts, 1000), 1000), parts)
    odd = pc.fill_null(odd, False)
    for row in np.flatnonzero(np.asarray(odd)).tolist():
        why = "nanoseconds, which databases do not keep"
        blame(int(rows[row]), field.name, "type", str(column[row].cast(pa.string())), why)
    return column.cast(pa.timestamp("us", column.type.tz), safe=False)


def _storable(column: Any, field: Field, rows: Any, blame: Blamer) -> Any:
    """The column without values that have its type and that no target can store."""
    if field.is_text:
        bad = pc.match_substring(column, "\0")
        why, kind = "a NUL character, which no target can store", "record"
    elif field.type in ("date", "datetime"):
        bad = out_of_years(column)
        why, kind = "outside the years 1 to 9999", "type"
    else:
        return column
    bad = pc.fill_null(bad, False)
    if not pc.any(bad).as_py():
        return column
    for row in np.flatnonzero(np.asarray(bad)).tolist():
        blame(int(rows[row]), field.name, kind, None, why)
    return pc.if_else(bad, pa.scalar(None, column.type), column)


def _record(table: Any, row: int) -> dict[str, Any]:
    """A row as plain values; those that Python cannot hold as Arrow writes them."""
    record = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        try:
            record[name] = _plain(column[row].as_py())
        except (OverflowError, ValueError):
            record[name] = str(column[row].cast(pa.int64()).as_py())
    return record


def nested_text(value: Any) -> str:
    """A nested value as JSON: bytes as text or else as hexadecimal digits, NaN as null."""
    return json.dumps(_plain(value), ensure_ascii=False)


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(name): _plain(inner) for name, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(inner) for inner in value]
    if isinstance(value, bytes):
        try:
            return value.decode()
        except UnicodeDecodeError:
            return value.hex()
    if isinstance(value, float):
        return value if abs(value) < float("inf") else None if value != value else str(value)
    if value is None or isinstance(value, (bool, int, str)):
        return value
    return value.isoformat() if hasattr(value, "isoformat") else str(value)


def _decoded(column: Any, field: Field, rows: Any, blame: Blamer) -> Any:
    texts: list[str | None] = []
    for row, value in zip(rows.tolist(), column.to_pylist(), strict=True):
        try:
            texts.append(None if value is None else value.decode())
        except UnicodeDecodeError:
            texts.append(None)
            blame(row, field.name, "encoding", value.hex(), "bytes that are no UTF-8")
    return pa.array(texts, pa.string())


def faults_of_parsed(path: Place, parsed: Parsed) -> MakeFault:
    """What makes a fault of a good row that no longer is one."""

    def make(row: int, field: str | None, kind: str, value: str | None, message: str) -> Fault:
        position = int(np.searchsorted(parsed.good, row))
        one = parsed.table.slice(position, 1)
        return _faults_of(path, one, parsed.row + row)(0, field, kind, value, message)

    return make


def _faults_of(path: Place, table: Any, before: int) -> MakeFault:
    def make(row: int, field: str | None, kind: str, value: str | None, message: str) -> Fault:
        number = before + row + 1
        raw = json.dumps(_record(table, row), ensure_ascii=False)
        shown = None if value is None else shorten(value)
        # A columnar file has no lines: its row numbers stand in for them.
        return Fault(
            path=str(path),
            line=number,
            row=number,
            field=field,
            kind=kind,
            value=shown,
            message=message,
            raw=raw,
        )

    return make

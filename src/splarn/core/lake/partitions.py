"""Which partition a row belongs to, by the transforms of the Iceberg table specification.

Source: Apache Iceberg table specification, "Partition Transforms" and its appendix B, "32-bit Hash
Requirements" (Murmur3, x86, 32 bits, seed 0).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.layout.file_layout import PartitionField

# A value of a partition as a document keeps it: whole numbers count days, months, years or
# microseconds since 1970, decimals are text.
Value = int | str | bool | None


@dataclass(frozen=True)
class Group:
    """Rows of one partition: its values, one for each field, and where the rows are."""

    values: tuple[Value, ...]
    rows: Any


def groups(table: Any, fields: Sequence[PartitionField]) -> Iterator[Group]:
    """The rows of a pyarrow Table by partition; `rows` of each are None where all are of one.

    Row numbers of a group are in order.
    """
    if not len(table):
        return
    codes = np.zeros(len(table), dtype=np.int64)
    count = 1
    values: list[list[Value]] = []
    for field in fields:
        found = transformed(table.column(field.column), field)
        encoded = _one(found).dictionary_encode(null_encoding="encode")
        values.append([plain(value) for value in encoded.dictionary])
        codes = codes * max(len(values[-1]), 1) + np.asarray(encoded.indices)
        count *= max(len(values[-1]), 1)
    first = codes[0]
    if (codes == first).all():
        yield Group(_values(int(first), values), None)
        return
    # Numbers of so few bits are put in order by counting them.
    order = np.argsort(codes.astype(np.uint16) if count <= 1 << 16 else codes, kind="stable")
    ordered = codes[order]
    edges = np.flatnonzero(np.diff(ordered)) + 1
    for rows in np.split(order, edges):
        yield Group(_values(int(codes[rows[0]]), values), rows)


def _values(code: int, values: Sequence[Sequence[Value]]) -> tuple[Value, ...]:
    found = []
    for known in reversed(values):
        code, place = divmod(code, max(len(known), 1))
        found.append(known[place])
    return tuple(reversed(found))


def _one(column: Any) -> Any:
    if isinstance(column, pa.ChunkedArray):
        return column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()
    return column


def plain(value: Any) -> Value:
    """An Arrow scalar as a document keeps it."""
    if not value.is_valid:
        return None
    if pa.types.is_decimal(value.type):
        return str(value.as_py())
    if pa.types.is_temporal(value.type):
        return int(value.value)
    found = value.as_py()
    return found if isinstance(found, bool | str) else int(found)


def transformed(column: Any, field: PartitionField) -> Any:
    """The values of a column as a partition field has them; nulls stay nulls."""
    return _TRANSFORMS[field.transform](_one(column), field)


def _years(column: Any, _: PartitionField) -> Any:
    return pc.subtract(pc.year(column).cast(pa.int32()), pa.scalar(1970, pa.int32()))


def _months(column: Any, field: PartitionField) -> Any:
    months = pc.month(column).cast(pa.int32())
    years = pc.multiply(_years(column, field), pa.scalar(12, pa.int32()))
    return pc.subtract(pc.add(years, months), pa.scalar(1, pa.int32()))


def _days(column: Any, _: PartitionField) -> Any:
    return column.cast(pa.date32(), safe=False).cast(pa.int32())


def _hours(column: Any, _: PartitionField) -> Any:
    micros = _micros(column)
    return pa.array(micros // 3_600_000_000, pa.int32(), mask=_missing(column))


def _micros(column: Any) -> Any:
    unit = pa.timestamp("us", column.type.tz)
    return np.asarray(column.cast(unit).cast(pa.int64()).fill_null(0))


def _missing(column: Any) -> Any:
    return np.asarray(column.is_null()) if column.null_count else None


def _buckets(column: Any, field: PartitionField) -> Any:
    hashed = bucket_hashes(column)
    buckets = (hashed & np.uint32(0x7FFFFFFF)).astype(np.int64) % field.buckets
    return pa.array(buckets.astype(np.int32), pa.int32(), mask=_missing(column))


_TRANSFORMS: dict[str, Callable[[Any, PartitionField], Any]] = {
    "value": lambda column, _: column,
    "year": _years,
    "month": _months,
    "day": _days,
    "hour": _hours,
    "bucket": _buckets,
}


def bucket_hashes(column: Any) -> Any:
    """The hash of each value as buckets are made of it; those of nulls may be anything."""
    kind = column.type
    if pa.types.is_integer(kind):
        return _hash_longs(np.asarray(column.cast(pa.int64()).fill_null(0)))
    if pa.types.is_date32(kind):
        return _hash_longs(np.asarray(column.cast(pa.int32()).fill_null(0)).astype(np.int64))
    if pa.types.is_timestamp(kind):
        return _hash_longs(_micros(column))
    if pa.types.is_time(kind):
        return _hash_longs(np.asarray(column.cast(pa.int64()).fill_null(0)))
    # Others are hashed once a value that is different.
    encoded = column.dictionary_encode()
    texts = [_bytes_of(value) for value in encoded.dictionary.to_pylist()]
    hashes = np.array([murmur3(text) for text in texts] or [0], dtype=np.uint32)
    return hashes[np.asarray(encoded.indices.fill_null(0))]


def _bytes_of(value: Any) -> bytes:
    """Text as UTF-8; a decimal as the fewest bytes of its digits, big end first."""
    if isinstance(value, str):
        return value.encode()
    digits = int(value.scaleb(-value.as_tuple().exponent))
    return digits.to_bytes((digits + (digits < 0)).bit_length() // 8 + 1, "big", signed=True)


_C1, _C2 = np.uint32(0xCC9E2D51), np.uint32(0x1B873593)


def _hash_longs(values: Any) -> Any:
    """Murmur3 of each number as eight bytes, the little end first."""
    wide = values.astype(np.int64).view(np.uint64)
    found = np.zeros(len(wide), dtype=np.uint32)
    with np.errstate(over="ignore"):
        for word in (wide & np.uint64(0xFFFFFFFF), wide >> np.uint64(32)):
            mixed = word.astype(np.uint32) * _C1
            mixed = _turned(mixed, 15) * _C2
            found = _turned(found ^ mixed, 13) * np.uint32(5) + np.uint32(0xE6546B64)
        return _finished(found ^ np.uint32(8))


def _turned(value: Any, by: int) -> Any:
    return (value << np.uint32(by)) | (value >> np.uint32(32 - by))


def _finished(found: Any) -> Any:
    found = (found ^ (found >> np.uint32(16))) * np.uint32(0x85EBCA6B)
    found = (found ^ (found >> np.uint32(13))) * np.uint32(0xC2B2AE35)
    return found ^ (found >> np.uint32(16))


def murmur3(data: bytes) -> int:
    """Murmur3 of some bytes: x86, 32 bits, seed 0."""
    mask, found = 0xFFFFFFFF, 0
    whole = len(data) & ~3

    def mixed(word: int) -> int:
        word = word * 0xCC9E2D51 & mask
        word = (word << 15 | word >> 17) & mask
        return word * 0x1B873593 & mask

    for at in range(0, whole, 4):
        found ^= mixed(int.from_bytes(data[at : at + 4], "little"))
        found = (found << 13 | found >> 19) & mask
        found = (found * 5 + 0xE6546B64) & mask
    if whole < len(data):
        found ^= mixed(int.from_bytes(data[whole:], "little"))
    found ^= len(data)
    found = (found ^ found >> 16) * 0x85EBCA6B & mask
    found = (found ^ found >> 13) * 0xC2B2AE35 & mask
    return found ^ found >> 16


def shown(field: PartitionField, value: Value) -> str:
    """A partition's value as people and paths have it, as 2031-04."""
    if value is None:
        return "null"
    if field.transform == "year":
        return str(int(value) + 1970)
    if field.transform == "month":
        return f"{int(value) // 12 + 1970}-{int(value) % 12 + 1:02d}"
    if field.transform == "day":
        return str(np.datetime64(int(value), "D"))
    if field.transform == "hour":
        return str(np.datetime64(int(value), "h")).replace("T", "-")
    return str(value)

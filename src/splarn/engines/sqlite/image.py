"""Rows as the bytes of an SQLite database with one table, made whole columns at a time.

SQLite opens such an image in memory and moves its records into the table in one statement, without
a Python object for any value. The format is that of the SQLite documentation, "Database File
Format": sections 1.3 (header), 1.6 (b-tree pages) and 2.1 (records).
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core import kernel
from splarn.core.kernel import Source
from splarn.engines.sql.row_bytes import RowBytes, binary_array, flat

# The largest page there is: fewer pages, and no record but a very long one needs a second.
PAGE = 65536
_HEAD = 8
_LONGEST = PAGE - 35 - 16
# Lengths up to which a text's type takes one byte, and two.
_ONE_BYTE, _TWO_BYTES = (127 - 13) // 2, (16383 - 13) // 2
# Serial types.
_NULL, _INT64, _FLOAT, _TEXT = 0, 6, 7, 13
_WIDTHS = {1: 1, 2: 2, 4: 4, 8: _INT64}
# Floats without a fraction become integers below this.
_EXACT = float(1 << 63)


def image(statement: str, columns: Sequence[Any], whole: Sequence[bool]) -> bytes | None:
    """A database whose only table is made by `statement` and holds the columns' rows.

    Columns are Arrow arrays of integers, floats or text. Those marked `whole` store floats without
    a fraction as integers, as SQLite does by a column's affinity. None when a record is too long,
    there are too many columns or too many rows.
    """
    rows = len(columns[0])
    encoded = [_encode(flat(column), exact) for column, exact in zip(columns, whole, strict=True)]
    header = 1 + sum(one.type_sizes for one in encoded)
    sizes = header + sum(one.sizes for one in encoded)
    if rows == 0 or int(np.max(header)) > 127 or int(np.max(sizes)) > _LONGEST or rows >= 1 << 28:
        return None
    cells = RowBytes(rows)
    cells.fixed(_varint(np.broadcast_to(sizes, rows), 3))
    cells.fixed(_varint(np.arange(1, rows + 1), 4))
    cells.fixed(np.broadcast_to(np.asarray(header, np.uint8), rows))
    for one in encoded:
        (cells.fixed if isinstance(one.types, np.ndarray) else cells.texts)(one.types)
    for one in encoded:
        (cells.fixed if isinstance(one.values, np.ndarray) else cells.texts)(one.values)
    return _pages(statement, cells.joined())


def image_of(statement: str, rows: int, sources: Sequence[Source]) -> bytes | None:
    """The same by the kernel."""
    made = kernel.sqlite_leaves(rows, sources) if rows else None
    if made is None:
        return None
    leaves, last = made
    if not len(last):
        return _first_page(statement, 2) + leaves
    root = _interior([*(last.tolist()), rows])
    count = len(last) + 1
    return None if root is None else b"".join((_first_page(statement, count + 2), root, leaves))


class _Encoded:
    """A column's serial types and values, as fixed bytes (numpy) or varying ones (Arrow)."""

    def __init__(self, types: Any, values: Any, type_sizes: Any, sizes: Any) -> None:
        self.types, self.values = types, values
        self.type_sizes, self.sizes = type_sizes, sizes


def _encode(array: Any, whole: bool) -> _Encoded:
    if pa.types.is_string(array.type):
        return _encode_text(array)
    if pa.types.is_floating(array.type):
        floats = np.asarray(array.fill_null(0.0))
        values, kind = floats.astype(">f8").view(">i8"), np.full(len(floats), _FLOAT, np.uint8)
        if whole:
            same = (np.floor(floats) == floats) & (np.abs(floats) < _EXACT)
            as_int = np.where(same, floats, 0).astype(">i8")
            values, kind = np.where(same, as_int, values), np.where(same, _INT64, kind)
        values = values.astype(">i8")
    else:
        width = _width(array)
        values = np.asarray(array.fill_null(0)).astype(f">i{width}")
        kind = np.full(len(values), _WIDTHS[width], np.uint8)
    kind = kind.astype(np.uint8)
    width = values.dtype.itemsize
    if not array.null_count:
        return _Encoded(kind, values, 1, width)
    valid = np.asarray(array.is_valid())
    varying = pc.if_else(array.is_valid(), binary_array(values), None)
    return _Encoded(np.where(valid, kind, _NULL).astype(np.uint8), varying, 1, valid * width)


def _encode_text(array: Any) -> _Encoded:
    lengths = np.asarray(pc.fill_null(pc.binary_length(array), 0)).astype(np.int64)
    valid = np.asarray(array.is_valid())
    kind = np.where(valid, _TEXT + 2 * lengths, _NULL)
    values = array.cast(pa.binary())
    longest = int(lengths.max(initial=0))
    if longest <= _ONE_BYTE:
        return _Encoded(kind.astype(np.uint8), values, 1, lengths)
    sizes = 1 + (lengths > _ONE_BYTE) + (lengths > _TWO_BYTES)
    types = pc.if_else(
        pa.array(sizes == 1),
        binary_array(_varint(kind, 1)),
        pc.if_else(
            pa.array(sizes == 2), binary_array(_varint(kind, 2)), binary_array(_varint(kind, 3))
        ),
    )
    return _Encoded(types, values, sizes, lengths)


def _width(array: Any) -> int:
    """The fewest bytes that hold all of an integer column's values."""
    if array.null_count == len(array):
        return 1
    ends = pc.min_max(array).as_py()
    most = max(-ends["min"] - 1, ends["max"], 0)
    return next(width for width in (1, 2, 4, 8) if most < 1 << (8 * width - 1))


def _varint(values: Any, width: int) -> Any:
    """Numbers as variable-length integers of one given length, leading zeros included."""
    groups = np.empty((len(values), width), np.uint8)
    for place in range(width):
        groups[:, place] = values >> (7 * (width - 1 - place)) & 0x7F
    groups[:, :-1] |= 0x80
    return groups


def _pages(statement: str, cells: Any) -> bytes | None:
    offsets = np.frombuffer(cells.buffers()[1], np.int32)[cells.offset :][: len(cells) + 1]
    offsets = offsets.astype(np.int64)
    data = memoryview(cells.buffers()[2])
    # Each cell takes two bytes more, for its place in the page.
    taken = offsets + 2 * np.arange(len(offsets))
    leaves: list[bytes] = []
    keys: list[int] = []
    first = 0
    while first < len(cells):
        last = int(np.searchsorted(taken, taken[first] + PAGE - _HEAD, side="right")) - 1
        leaves.append(_leaf(offsets[first : last + 1], data))
        keys.append(last)
        first = last
    if len(leaves) == 1:
        return _first_page(statement, 2) + leaves[0]
    root = _interior(keys)
    if root is None:
        return None
    return b"".join((_first_page(statement, len(leaves) + 2), root, *leaves))


def _leaf(offsets: Any, data: memoryview) -> bytes:
    count = len(offsets) - 1
    begin, end = int(offsets[0]), int(offsets[-1])
    start = PAGE - (end - begin)
    head = struct.pack(">BHHHB", 0x0D, 0, count, start % 65536, 0)
    pointers = (offsets[:-1] - begin + start).astype(">u2").tobytes()
    gap = bytes(start - _HEAD - len(pointers))
    return b"".join((head, pointers, gap, data[begin:end]))


def _interior(keys: Sequence[int]) -> bytes | None:
    """The root over all leaves, which follow it from the third page on; None if they are many."""
    cells = np.empty((len(keys) - 1, 9), np.uint8)
    pages = np.arange(3, len(keys) + 2)
    cells[:, :4] = pages.astype(">u4").view(np.uint8).reshape(-1, 4)
    cells[:, 4:] = _varint(np.asarray(keys[:-1]), 5)
    start = PAGE - cells.size
    if 12 + 2 * len(cells) > start:
        return None
    head = struct.pack(">BHHHBI", 0x05, 0, len(cells), start % 65536, 0, len(keys) + 2)
    pointers = (np.arange(len(cells)) * 9 + start).astype(">u2").tobytes()
    return b"".join((head, pointers, bytes(start - 12 - len(pointers)), cells.tobytes()))


def _first_page(statement: str, pages: int) -> bytes:
    """The header and the table of tables, with the one table whose root is the second page."""
    header = struct.pack(
        ">16sHBBBBBBIIIIIIIIIIII20sII",
        b"SQLite format 3\0", 1, 1, 1, 0, 64, 32, 32, 1, pages, 0, 0, 1, 4, 0, 0, 1, 0, 0, 0,
        bytes(20), 1, 3_040_000,
    )  # fmt: skip
    texts = [text.encode() for text in ("table", "r", "r", statement)]
    types = [_one_varint(_TEXT + 2 * len(text)) for text in texts]
    types.insert(3, b"\x01")
    values = [*texts[:3], b"\x02", texts[3]]
    size = 1 + sum(map(len, types))
    record = bytes([size]) + b"".join(types) + b"".join(values)
    cell = _one_varint(len(record)) + b"\x01" + record
    start = PAGE - len(cell)
    head = struct.pack(">BHHHBH", 0x0D, 0, 1, start, 0, start)
    return header + head + bytes(start - len(header) - len(head)) + cell


def _one_varint(value: int) -> bytes:
    groups = [value & 0x7F]
    while value := value >> 7:
        groups.append(value & 0x7F | 0x80)
    return bytes(reversed(groups))

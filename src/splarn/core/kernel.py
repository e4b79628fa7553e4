"""The kernel in C, where it was built: what is done for each byte and each value of a load.

Whatever it does is done in Python too, more slowly, and that form decides what it means.
`available` says whether there is a kernel; each function gives None for what it leaves to Python.
`SPLARN_KERNEL=off` in the environment goes without it.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from splarn.core.layout import Dialect, Field

VERSION = 2
INTEGER, FLOAT, BOOLEAN, DATE, STAMP, TIME, DECIMAL, TEXT, UUID, PLAIN = range(10)
# Decimals of more digits do not fit into 64 bits.
MOST_DIGITS = 18

try:
    from splarn.core import _kernel  # type: ignore[attr-defined]
except ImportError:
    _kernel = None
if _kernel is not None and _kernel.VERSION != VERSION:
    _kernel = None
Positions = npt.NDArray[np.int64]


def available() -> bool:
    """Whether there is a kernel, and nobody wants to go without it."""
    return _kernel is not None and os.environ.get("SPLARN_KERNEL") != "off"


class Tally(NamedTuple):
    """What a block holds: how many records end, and just after which bytes the first and last do.

    `quoted` says whether it stops inside a quoted field, `blank` whether two newlines touch or one
    opens it, `lines` counts newlines up to the last end, and `ends` has where all records end, if
    they were to be listed.
    """

    rows: int
    first_end: int
    last_end: int
    quoted: bool
    blank: bool
    lines: int
    ends: Positions


def tally(data: Any, dialect: Dialect, quoted: bool, listed: bool) -> Tally | None:
    """Counts the records that end in a block which starts just after a newline, in quotes or not.

    None where a quote stands in the middle of an unquoted field or may be escaped.
    """
    if dialect.escape is not None and dialect.escape.encode() in bytes(data):
        return None
    if dialect.quote is None and quoted:
        return None
    quote = -1 if dialect.quote is None else ord(dialect.quote)
    found = _kernel.tally(data, quote, dialect.delimiter_bytes, quoted, listed)
    if found is None:
        return None
    *figures, ends = found
    return Tally._make((*figures, np.frombuffer(ends, np.int64)))


class RecordParser:
    """Reads records of delimited text into Arrow columns, those that are written plainly.

    `late` are the names of fields that are read as text.
    """

    def __init__(self, fields: Sequence[Field], dialect: Dialect, late: set[str]) -> None:
        self.delimiter = dialect.delimiter_bytes
        self.quote = -1 if dialect.quote is None else ord(dialect.quote)
        self.columns = tuple(_wanted(field, dialect, field.name in late) for field in fields)
        self.types = [pa.string() if field.name in late else field.arrow_type() for field in fields]
        self.names = [field.name for field in fields]

    def parse(self, data: bytes, starts: Positions, ends: Positions) -> tuple[Any, Any] | None:
        """A pyarrow.Table of the records it takes, and the indexes of the others.

        None where too many are others.
        """
        starts, ends = np.ascontiguousarray(starts), np.ascontiguousarray(ends)
        found = _kernel.parse(data, starts, ends, self.delimiter[0], self.quote, self.columns)
        if found is None:
            return None
        rows, columns, odd = found
        arrays = [
            _array(rows, kind, *column) for kind, column in zip(self.types, columns, strict=True)
        ]
        return pa.Table.from_arrays(arrays, self.names), np.frombuffer(odd, np.int64)


def can_parse(fields: Sequence[Field], dialect: Dialect) -> bool:
    """Whether records of these fields are written in a way that the kernel knows."""
    return (
        len(dialect.delimiter_bytes) == 1
        and not dialect.trim
        and all(
            len(dialect.null_markers if field.null_markers is None else field.null_markers) <= 16
            for field in fields
        )
    )


def _wanted(field: Field, dialect: Dialect, late: bool) -> tuple[int, int, int, bool, Any]:
    markers = dialect.null_markers if field.null_markers is None else field.null_markers
    words = tuple(marker.encode() for marker in markers)
    kinds = {"integer": INTEGER, "number": FLOAT, "boolean": BOOLEAN, "date": DATE,
             "datetime": STAMP, "time": TIME}  # fmt: skip
    if late or field.type not in kinds:
        return TEXT, 0, 0, field.required, words
    if field.is_decimal and (field.scale or 0) > MOST_DIGITS:
        # Taken by none of its values.
        return DECIMAL, 0, 0, field.required, words
    if field.is_decimal:
        return DECIMAL, field.precision or 0, field.scale or 0, field.required, words
    return kinds[field.type], field.bits, 0, field.required, words


def _array(rows: int, kind: Any, valid: Any, first: Any, text: Any, nulls: int) -> Any:
    buffers = [None if valid is None else pa.py_buffer(valid), pa.py_buffer(first)]
    if text is not None:
        buffers.append(pa.py_buffer(text))
    return pa.Array.from_buffers(kind, rows, buffers, nulls)


Source = tuple[int, int, int, Any, Any, Any]


def source_of(kind: int, argument: int, array: Any) -> Source:
    """An Arrow array as the functions below take it."""
    valid, values, *text = array.buffers()
    known = (valid if array.null_count else None, values or b"", (text[0] or b"") if text else None)
    return kind, argument, array.offset, *known


def postgresql(rows: int, columns: Sequence[Source]) -> bytes | None:
    """Rows in PostgreSQL's binary form; an integer's argument is its width and, 8 bits up, that of
    the server's column, a decimal's its scale. None where a value does not fit."""
    answer: bytes | None = _kernel.postgresql(rows, tuple(columns))
    return answer


def tabbed(rows: int, columns: Sequence[Source]) -> bytes | None:
    """Rows as tabbed text with backslash escapes; a boolean's argument is the letter for true and,
    8 bits up, that for false. None where a value has no such form."""
    answer: bytes | None = _kernel.tabbed(rows, tuple(columns))
    return answer


def copied(get: int, let: int, connection: int, enough: int) -> tuple[bytes, int, int]:
    """What a server sends of a COPY, at least so many bytes unless it ends: by the addresses of
    the client library's PQgetCopyData and PQfreemem, and of a connection. The messages, how many,
    and more than 0 where they go on, else what PQgetCopyData said."""
    answer: tuple[bytes, int, int] = _kernel.copied(get, let, connection, enough)
    return answer


def figures(rows: int, column: Source) -> tuple[int, int, int, int] | None:
    """Values of a column that are no null, their sum, the smallest and the largest.

    Of text the sum counts bytes; moments and times count whole seconds. None where a decimal does
    not fit into 64 bits.
    """
    found = _kernel.figures(rows, (column,))
    if found is None:
        return None
    values, upper, lower, least, most = found
    return values, (upper << 64) + lower, least, most


def postgresql_hashes(rows: int, columns: Sequence[Source]) -> int:
    """The sum of the hashes of rows as PostgreSQL computes them; arguments as for `postgresql`,
    with the seed of a column 16 bits up."""
    upper, lower = _kernel.postgresql_hashes(rows, tuple(columns))
    return int(upper << 64) + int(lower)


def cell_hashes(rows: int, columns: Sequence[Source]) -> int | None:
    """The sum of the hashes of rows as SQLite stores them; the scale is a decimal's argument."""
    total: int | None = _kernel.cell_hashes(rows, tuple(columns))
    return total


def value_hashes(rows: int, columns: Sequence[Source]) -> int:
    """The sum of the hashes of rows by what their values are in memory: the same for rows of the
    same types."""
    upper, lower = _kernel.value_hashes(rows, tuple(columns))
    return int(upper << 64) + int(lower)


def cell_hash(*cells: Any) -> int:
    """The hash of one row, its cells as the interpreter has them."""
    return int(_kernel.cell_hash(*cells))


def sqlite_leaves(rows: int, columns: Sequence[Source]) -> tuple[bytes, Positions] | None:
    """Rows as leaf pages of an SQLite file, and the index of the last row of each but the last.

    The argument of floats and decimals is, 8 bits up, whether those without a fraction are stored
    as whole numbers, and a decimal's scale. None where a row does not fit.
    """
    made = _kernel.sqlite_leaves(rows, tuple(columns))
    return None if made is None else (made[0], np.frombuffer(made[1], np.int64))


def sqlite_hashes(
    file: int,
    root: int,
    page: int,
    usable: int,
    columns: int,
    own_number: int,
    order: tuple[int, ...],
    first: int,
    last: int,
) -> tuple[int, int] | None:
    """Rows of a table in an open SQLite file, numbered `first` to `last`, and their hashes' sum.

    `root` is the table's first page, `page` and `usable` are bytes, `own_number` is the column that
    is the row's number or -1, and `order` are the columns that are hashed. None where the file is
    not as it should be.
    """
    found: tuple[int, int] | None = _kernel.sqlite_hashes(
        file, root, page, usable, columns, own_number, order, first, last
    )
    return found


def text_hashes(rows: int, columns: Sequence[Source]) -> int | None:
    """The sum of the CRC-32 of rows as text; a decimal's argument is its scale and, 8 bits up, its
    column's, that of a moment the digits of its column's fraction. None where one has more."""
    total: int | None = _kernel.text_hashes(rows, tuple(columns))
    return total

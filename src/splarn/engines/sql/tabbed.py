"""Typed rows as tab-separated text with backslash escapes, which several servers take in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core import kernel
from splarn.core.kernel import Source, source_of
from splarn.core.reading.text import value_text
from splarn.core.records.lines import holds_any, value_bytes
from splarn.engines.sql.row_bytes import flat

_ESCAPES = (("\\", "\\\\"), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t"))


def tabbed(table: Any, true: str = "true", false: str = "false") -> bytes:
    """One line a row; a null is written as backslash N. Any value can be written."""
    if not len(table):
        return b""
    if kernel.available() and len(true) == len(false) == 1:
        sources = [_source(flat(column), true, false) for column in table.columns]
        written = kernel.tabbed(len(table), sources)
        if written is not None:
            return written
    columns = []
    for column in table.columns:
        text = value_text(column)
        if pa.types.is_boolean(column.type):
            text = pc.if_else(column, true, false)
        elif pa.types.is_string(column.type) and holds_any(text, "\\\n\r\t"):
            for mark, escaped in _ESCAPES:
                text = pc.replace_substring(text, mark, escaped)
        columns.append(text)
    # The last one brings the end of the line, so that lines need not be copied for it.
    columns[-1] = _joined((columns[-1], "\n"), "")
    return value_bytes(_joined(columns, "\t"))


def _source(array: Any, true: str, false: str) -> Source:
    kind = array.type
    if pa.types.is_signed_integer(kind):
        return source_of(kernel.INTEGER, kind.bit_width, array)
    if pa.types.is_boolean(kind):
        return source_of(kernel.BOOLEAN, ord(false) << 8 | ord(true), array)
    if pa.types.is_decimal128(kind) and kind.scale >= 0:
        return source_of(kernel.DECIMAL, kind.scale, array)
    if pa.types.is_string(kind):
        return source_of(kernel.TEXT, 0, array)
    if pa.types.is_date32(kind):
        return source_of(kernel.DATE, 0, array)
    if kind == pa.timestamp("us"):
        return source_of(kernel.STAMP, 0, array)
    if kind == pa.time64("us"):
        return source_of(kernel.TIME, 0, array)
    # No letter of these is escaped.
    return source_of(kernel.PLAIN, 0, value_text(array))


def _joined(pieces: Sequence[Any], mark: str) -> Any:
    return pc.binary_join_element_wise(
        *pieces, mark, null_handling="replace", null_replacement="\\N"
    )

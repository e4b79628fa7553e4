"""Typed rows as tab-separated text with backslash escapes, which several servers take in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.reading.text import value_text
from splarn.core.records.lines import holds_any, value_bytes

_ESCAPES = (("\\", "\\\\"), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t"))


def tabbed(table: Any, true: str = "true", false: str = "false") -> bytes:
    """One line a row; a null is written as backslash N. Any value can be written."""
    if not len(table):
        return b""
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


def _joined(pieces: Sequence[Any], mark: str) -> Any:
    return pc.binary_join_element_wise(
        *pieces, mark, null_handling="replace", null_replacement="\\N"
    )

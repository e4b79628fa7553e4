"""Typed rows as tab-separated text with backslash escapes, which several servers take in."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.reading.text import value_text
from splarn.core.records.lines import joined_lines

_ESCAPES = (("\\", "\\\\"), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t"))
_SPECIAL = "[\\\\\n\r\t]"


def tabbed(table: Any, true: str = "true", false: str = "false") -> bytes:
    """One line a row; a null is written as backslash N. Any value can be written."""
    columns = []
    for column in table.columns:
        text = value_text(column)
        if pa.types.is_boolean(column.type):
            text = pc.if_else(column, true, false)
        elif pa.types.is_string(column.type) and _is_special(text):
            for mark, escaped in _ESCAPES:
                text = pc.replace_substring(text, mark, escaped)
        columns.append(text)
    lines = pc.binary_join_element_wise(
        *columns, "\t", null_handling="replace", null_replacement="\\N"
    )
    return joined_lines(lines)


def _is_special(text: Any) -> bool:
    return bool(pc.any(pc.match_substring_regex(text, _SPECIAL)).as_py())

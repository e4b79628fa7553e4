"""Typed columns turned into text: values as strings, whole tables as delimited text or JSON."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.records.lines import holds_any, joined_lines

_CONTROL = "[\x00-\x1f]"
_SPECIAL = '["\\\\\x00-\x1f]'


def stamp_text(column: Any) -> Any:
    """Datetimes as text; a fraction of a second has six digits where there is one.

    Each value by itself, so that it is the same text whatever comes with it.
    """
    per_second = {"s": 1, "ms": 1_000, "us": 1_000_000, "ns": 1_000_000_000}[column.type.unit]
    plain = np.asarray(column.cast(pa.int64()).fill_null(0))
    if not (plain % per_second).any():
        return column.cast(pa.timestamp("s")).cast(pa.string())
    return _without_zeros(column.cast(pa.string()))


def value_text(column: Any) -> Any:
    """Any typed column as text, in the form that a layout reads without a pattern."""
    if pa.types.is_string(column.type):
        return column
    if pa.types.is_timestamp(column.type):
        return stamp_text(column)
    if pa.types.is_time(column.type):
        return _without_zeros(column.cast(pa.string()))
    return column.cast(pa.string())


def _without_zeros(text: Any) -> Any:
    """Text of times without a fraction of a second that is none."""
    return pc.replace_substring_regex(text, r"\.0+$", "")


def delimited(table: Any, layout: Layout) -> bytes:
    """Rows as delimited text in the layout's dialect, which must have a quote; no header."""
    dialect = layout.dialect
    quote, mark = dialect.quote or '"', dialect.delimiter
    special = f"[\r\n{_in_class(mark)}{_in_class(quote)}]"
    columns = []
    for column in table.columns:
        text = value_text(column)
        if pa.types.is_string(column.type):
            # An empty value is told from a null by its quotes.
            plain = not holds_any(text, f"\r\n{mark}{quote}")
            if plain and dialect.null_markers == ("",) and pc.min(pc.binary_length(text)).as_py():
                columns.append(text)
                continue
            empty = pc.is_in(text, pa.array(dialect.null_markers, pa.string()))
            hard = pc.or_(pc.match_substring_regex(text, special), empty)
            if pc.any(hard).as_py():
                doubled = pc.replace_substring(text, quote, quote + quote)
                quoted = pc.binary_join_element_wise(quote, doubled, quote, "")
                text = pc.if_else(hard, quoted, text)
        columns.append(text)
    # A record of one empty field would be a blank line, which is no record.
    nothing = dialect.null_markers[-1] if len(columns) == 1 else ""
    joined = pc.binary_join_element_wise(
        *columns, mark, null_handling="replace", null_replacement=nothing
    )
    return joined_lines(joined)


def _in_class(mark: str) -> str:
    return f"\\{mark}" if mark in "\\]^-[" else mark


def json_lines(table: Any, layout: Layout) -> bytes:
    """Rows as JSON objects, one a line; a null is written as null.

    Raises RequestError for an infinity, which JSON does not know.
    """
    columns = []
    for field, column in zip(layout.fields, table.columns, strict=True):
        text = value_text(column)
        if pa.types.is_floating(column.type):
            _refuse_infinity(column, field)
        bare = pa.types.is_integer(column.type) or pa.types.is_floating(column.type)
        bare = bare or pa.types.is_boolean(column.type) or pa.types.is_decimal(column.type)
        if field.is_json:
            # Between values JSON may have line breaks; a line of its own may not.
            text = pc.replace_substring_regex(text, "[\r\n]", " ")
        elif not bare:
            text = _escaped(text) if pa.types.is_string(column.type) else text
            text = pc.binary_join_element_wise('"', text, '"', "")
        name = json.dumps(field.name, ensure_ascii=False)
        columns.append(
            pc.binary_join_element_wise(
                f"{name}:", text, "", null_handling="replace", null_replacement="null"
            )
        )
    inner = pc.binary_join_element_wise(*columns, ",")
    return joined_lines(pc.binary_join_element_wise("{", inner, "}", ""))


def _refuse_infinity(column: Any, field: Field) -> None:
    if pc.any(pc.is_inf(column)).as_py():
        raise RequestError(
            f"Field {field.name!r} holds an infinite number, which JSON does not know: make parts "
            "of --format csv or parquet."
        )


def _escaped(text: Any) -> Any:
    """Text as it stands inside a JSON string."""
    if not pc.any(pc.match_substring_regex(text, _SPECIAL)).as_py():
        return text
    for mark, escape in (("\\", "\\\\"), ('"', '\\"'), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t")):
        text = pc.replace_substring(text, mark, escape)
    if not pc.any(pc.match_substring_regex(text, _CONTROL)).as_py():
        return text
    for code in range(32):
        text = pc.replace_substring(text, chr(code), f"\\u{code:04x}")
    return text


def header_line(layout: Layout) -> bytes:
    """The header record as delimited text."""
    dialect = layout.dialect
    quote = dialect.quote
    special = (dialect.delimiter, "\n", "\r", quote or "\n")

    def cell(name: str) -> str:
        if quote is None or not any(mark in name for mark in special):
            return name
        return quote + name.replace(quote, quote * 2) + quote

    line = dialect.delimiter.join(cell(name) for name in layout.names) + "\n"
    return line.encode(dialect.encoding)

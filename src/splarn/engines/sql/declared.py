"""Declared column types, in the words of any engine, as fields that hold all of their values."""

from __future__ import annotations

import re
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Field

_DECLARED = re.compile(
    r"\s*([a-z_ ]*[a-z_])\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?", re.IGNORECASE
)
# How a type begins, what it is, and the bits of a whole number.
_BEGINNINGS = (
    ("bigint", "integer", 64), ("int8", "integer", 64), ("smallint", "integer", 16),
    ("int2", "integer", 16), ("tinyint", "integer", 16), ("utinyint", "integer", 16),
    ("usmallint", "integer", 32), ("mediumint", "integer", 32), ("uinteger", "integer", 64),
    ("integer", "integer", 32), ("int4", "integer", 32), ("int", "integer", 32),
    ("year", "integer", 16), ("serial", "integer", 64),
    ("decimal", "decimal", 0), ("numeric", "decimal", 0),
    ("double", "number", 0), ("real", "number", 0), ("float", "number", 0),
    ("bool", "boolean", 0), ("datetime", "datetime", 0), ("date", "date", 0),
    ("timestamp with", "instant", 0), ("timestamptz", "instant", 0), ("timestamp", "datetime", 0),
    ("time with time zone", "text", 0), ("time", "time", 0),
    ("varchar", "varchar", 0), ("character varying", "varchar", 0), ("char", "varchar", 0),
    ("bytea", "bytes", 0), ("blob", "bytes", 0), ("tinyblob", "bytes", 0),
    ("mediumblob", "bytes", 0), ("longblob", "bytes", 0), ("binary", "bytes", 0),
    ("varbinary", "bytes", 0),
)  # fmt: skip
# The most digits of an exact decimal.
DIGITS = 38


def kind_of(declared: str) -> str:
    """What a declared type is: one of ours, or decimal, varchar, instant, bytes, text; '' if none.

    An instant is a moment with a zone.
    """
    return _read(declared)[0]


def _read(declared: str) -> tuple[str, int, list[int]]:
    text = declared.strip().lower()
    found = _DECLARED.match(text)
    if not text or found is None:
        return "", 0, []
    given = [int(one) for one in (found[2], found[3]) if one]
    if text.endswith("[]"):
        return "text", 0, []
    if "timestamp" in text and ("with time zone" in text or "with local" in text):
        return "instant", 0, []
    if text == "tinyint(1)":
        return "boolean", 0, []
    for beginning, kind, bits in _BEGINNINGS:
        if text.startswith(beginning):
            # One without a sign goes further up.
            return kind, (min(2 * bits, 64) if "unsigned" in text else bits), given
    return "text", 0, []


def field_of(name: str, declared: str, required: bool, whole_numbers: int = 0) -> Field:
    """The field that holds all values of a column.

    `whole_numbers` is the width of all whole numbers, where their types do not say it.
    Raises RequestError for a column of bytes, which no field holds.
    """
    kind, bits, given = _read(declared)
    facts: dict[str, Any] = {"required": required}
    if kind == "bytes":
        raise RequestError(
            f"The column {name} holds bytes ({declared}), which no part can hold: name the others "
            "with --columns, or give a --query that writes it as text."
        )
    if kind == "integer":
        return Field(name, "integer", bits=whole_numbers or bits, **facts)
    if kind == "decimal":
        if given and given[0] <= DIGITS:
            scale = given[1] if len(given) > 1 else 0
            return Field(name, "number", precision=given[0], scale=scale, **facts)
        # Without limits a value may have more digits than any exact type of ours.
        return Field(name, "string" if given else "number", **facts)
    if kind == "varchar":
        return Field(name, max_length=given[0] if given else None, **facts)
    if kind == "instant":
        return Field(name, "datetime", **facts)
    return Field(
        name,
        kind if kind in ("number", "boolean", "date", "datetime", "time") else "string",
        **facts,
    )

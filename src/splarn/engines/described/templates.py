"""Statements as templates: every value in them is quoted by the declared rules, never pasted."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from splarn.core.target.names import split_name

_PIECE = re.compile(r"\{\{|\}\}|\{([a-z_]*)\}")

_TABLE = frozenset({"table", "table_text", "name_text"})
_PART = _TABLE | {
    "columns", "address", "format", "codec", "delimiter", "quote", "header", "null", "load_id",
    "part_id", "tag", "mark",
}  # fmt: skip
_OF_PART = _TABLE | {"address", "load_id", "part_id", "tag", "mark"}
# The values that each kind of template may have.
VALUES: Mapping[str, frozenset[str]] = {
    "load": _PART,
    "aside": _PART,
    "rows": _TABLE,
    "create": _TABLE | {"columns_with_types"},
    "clone": _TABLE | {"into"},
    "drop": _TABLE,
    "rename": _TABLE | {"name"},
    "swap": _TABLE | {"into", "before"},
    "empty": _TABLE,
    "copy": _TABLE | {"into", "columns"},
    "count": _TABLE,
    "look": _TABLE,
    "version": frozenset(),
    "claim": frozenset({"load_id"}),
    "turn": _TABLE,
    "end_turn": _TABLE,
    "came_in": _OF_PART,
    "under_way": _OF_PART - {"address"},
    "times": _OF_PART,
    "refused": _OF_PART,
    "clock": frozenset(),
    "brought": _TABLE | {"mark"},
    "size": frozenset(),
    "resize": frozenset({"tier"}),
    "start": frozenset(),
    "types": frozenset({"precision", "scale", "length"}),
    "figures": frozenset({"column"}),
    "each": frozenset({"column", "variable", "null"}),
}


class Name(str):
    """A value that is an identifier."""


class Names(tuple[str, ...]):
    """Identifiers, as a statement lists them."""


class Written(str):
    """What is written as it is: an expression that was made here, or a number."""


def wrong_value(template: str, known: frozenset[str]) -> str:
    """The first value of a template that is not known, empty where all are."""
    for found in _PIECE.finditer(template):
        if found[1] is not None and found[1] not in known:
            return found[1] or " "
    return ""


class Quoting:
    """How names, texts and truths are written in statements."""

    def __init__(
        self, quotes: Sequence[str], backslashes: bool, true: str = "TRUE", false: str = "FALSE"
    ) -> None:
        self.before, self.behind = quotes
        self.backslashes = backslashes
        self.truths = (false, true)

    def name(self, name: str) -> str:
        """One identifier."""
        return f"{self.before}{name.replace(self.behind, self.behind * 2)}{self.behind}"

    def table(self, table: str) -> str:
        """A table's name, whose schema may stand before a dot."""
        return ".".join(map(self.name, split_name(table)))

    def text(self, text: str) -> str:
        """A text."""
        escaped = text.replace("'", "''")
        if self.backslashes:
            escaped = escaped.replace("\\", "\\\\")
        return f"'{escaped}'"

    def written(self, value: Any) -> str:
        """A value by its kind."""
        if isinstance(value, Written):
            return str(value)
        if isinstance(value, Name):
            return self.table(value)
        if isinstance(value, Names):
            return ", ".join(map(self.name, value))
        if isinstance(value, bool):
            return self.truths[value]
        if isinstance(value, int | float):
            return str(value)
        return self.text(str(value))

    def filled(self, template: str, values: Mapping[str, Any]) -> str:
        """A template with its values; a doubled brace is one."""

        def piece(found: re.Match[str]) -> str:
            if found[1] is None:
                return found[0][0]
            return self.written(values[found[1]])

        return _PIECE.sub(piece, template)

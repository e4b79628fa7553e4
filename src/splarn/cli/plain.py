"""Text that does to a terminal nothing but stand there."""

from __future__ import annotations

import re

from splarn.core.source.secrets import hide

# Control characters, and marks that turn the direction of writing; a line break and a tab may stay.
_ACTIVE = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff]"
)


def visible(text: str) -> str:
    """The text without secrets, its control characters written out: `\\x1b` for an escape."""
    return _ACTIVE.sub(_written, hide(text))


def in_one_line(text: str) -> str:
    """The same with line breaks and tabs written out too."""
    return visible(text).replace("\n", "\\n").replace("\t", "\\t")


def escaped(text: str) -> str:
    """The visible text as markup in which square brackets mean themselves."""
    return visible(text).replace("[", r"\[")


def quiet_json(text: str) -> str:
    """A JSON text in which no control character stands; it means the same."""
    return _ACTIVE.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def _written(found: re.Match[str]) -> str:
    code = ord(found[0])
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"

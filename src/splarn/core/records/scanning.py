"""Records in delimited text: where each one starts and ends, found on whole blocks of bytes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from splarn.core.layout.dialect import Dialect

Positions = npt.NDArray[np.int64]

NEWLINE = 10
BLANKS = (b"\n", b"\r\n", b"\r")
BOM = b"\xef\xbb\xbf"


@dataclass(frozen=True)
class Scan:
    """What a block holds: `ends` are offsets just after each record's newline.

    `quoted` says whether the block stops inside a quoted field; `stray` whether a quote stands
    where it is plain text; `lines` counts newlines.
    """

    ends: Positions
    quoted: bool
    stray: bool
    lines: int


def scan(data: Any, dialect: Dialect, quoted: bool = False) -> Scan:
    """Finds the record ends in a block that starts just after a newline.

    `quoted` says whether that newline was inside a quoted field. Any quote opens or closes in turn
    as long as each opening one stands at the start of a field; that is checked on whole arrays, and
    only a block where it fails is walked field by field.
    """
    view = np.frombuffer(data, dtype=np.uint8)
    newlines = np.flatnonzero(view == NEWLINE)
    if dialect.quote is None:
        return Scan(newlines + 1, False, False, len(newlines))
    quotes = np.flatnonzero(view == ord(dialect.quote))
    if dialect.escape is not None:
        quotes = quotes[~escaped(view, quotes, ord(dialect.escape))]
    if not len(quotes):
        ends = newlines[:0] if quoted else newlines + 1
        return Scan(ends, quoted, False, len(newlines))
    if not _all_open_fields(view, quotes, int(quoted), dialect):
        return _walk(bytes(data), dialect, quoted)
    inside = (np.searchsorted(quotes, newlines) + int(quoted)) & 1
    stops_quoted = bool((len(quotes) + quoted) & 1)
    return Scan(newlines[inside == 0] + 1, stops_quoted, False, len(newlines))


def escaped(view: Any, at: Positions, escape: int) -> Any:
    """Which of the positions come after an odd run of escapes."""
    odd = np.zeros(len(at), dtype=bool)
    back = 1
    active = np.flatnonzero(at >= 1)
    while len(active := active[view[at[active] - back] == escape]):
        odd[active] ^= True
        back += 1
        active = active[at[active] >= back]
    return odd


def _all_open_fields(view: Any, quotes: Positions, first: int, dialect: Dialect) -> bool:
    """Whether every second quote from the `first` on opens a field or follows a closing one."""
    openers = quotes[first::2]
    before = view[openers - 1]
    mark = dialect.delimiter_bytes
    fits = before == mark[-1]
    for back, byte in enumerate(reversed(mark[:-1]), 2):
        fits &= (openers >= back) & (view[np.maximum(openers - back, 0)] == byte)
    if dialect.escape is not None:
        begins = np.maximum(openers - len(mark), 0)
        fits &= ~escaped(view, begins, ord(dialect.escape))
    fits |= before == NEWLINE
    # Straight after a closing quote: the two stand for one.
    closers = quotes[first - 1 :: 2] if first else np.concatenate(([-2], quotes[1::2]))
    fits |= closers[: len(openers)] == openers - 1
    if len(openers) and openers[0] == 0:
        fits[0] = True
    return bool(fits.all())


@lru_cache(maxsize=32)
def field_patterns(dialect: Dialect) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    """A field with what ends it, and the rest of one that goes on inside its quotes.

    The last group is the delimiter, the line break or nothing that ends the field.
    """
    d, q = re.escape(dialect.delimiter_bytes), re.escape((dialect.quote or "").encode())
    plain, quoted = rb"(?!" + d + rb")[^\n]", rb"[^" + q + rb"]|" + q + q
    if len(dialect.delimiter_bytes) == 1:
        plain = rb"[^" + d + rb"\n]"
    if dialect.escape is not None:
        e = re.escape(dialect.escape.encode())
        plain = e + rb"[^\n]|" + plain
        quoted = e + rb"(?:.|\Z)|[^" + q + e + rb"]|" + q + q
    unquoted = rb"(?:" + plain + rb")*+"
    inside = rb"(?:" + quoted + rb")*+"
    field = (
        rb"(?:"
        + q
        + inside
        + rb"(?:"
        + q
        + unquoted
        + rb"|(\Z))|"
        + unquoted
        + rb")("
        + d
        + rb"|\n|\Z)"
    )
    resume = inside + rb"(?:" + q + unquoted + rb"|(\Z))(" + d + rb"|\n|\Z)"
    return re.compile(field, re.DOTALL), re.compile(resume, re.DOTALL)


def _walk(data: bytes, dialect: Dialect, quoted: bool) -> Scan:
    field, resume = field_patterns(dialect)
    ends: list[int] = []
    position, size, open_quote = 0, len(data), quoted
    pattern = resume if quoted else field
    while position < size:
        match = pattern.match(data, position)
        assert match is not None, "the pattern matches any text"
        pattern = field
        position = match.end()
        open_quote = match[1] is not None
        if match[2] == b"\n":
            ends.append(position)
    return Scan(np.array(ends, dtype=np.int64), open_quote, True, data.count(b"\n"))

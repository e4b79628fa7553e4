"""Records counted on bitmaps, one bit a byte, where their positions are not needed.

Whether a byte lies inside a quoted field is the parity of the quotes up to it; over a bitmap of
quotes that is a prefix sum modulo two, which six shifts give for 64 bytes at once (Langdale and
Lemire 2019, "Parsing Gigabytes of JSON per Second").
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from splarn.core.layout.dialect import Dialect

_ONE, _TOP = np.uint64(1), np.uint64(63)
_SHIFTS = tuple(np.uint64(1 << power) for power in range(6))


@dataclass(frozen=True)
class Tally:
    """What a block holds: how many records end, and just after which bytes the first and last do.

    `quoted` says whether it stops inside a quoted field; `blank` whether two newlines touch, or
    one opens the block.
    """

    rows: int
    first_end: int
    last_end: int
    quoted: bool
    blank: bool


def tally(data: bytes, dialect: Dialect, quoted: bool = False) -> Tally | None:
    """Counts the records that end in a block which starts just after a newline.

    `quoted` says whether that newline was inside a quoted field. None where a quote stands in the
    middle of an unquoted field or may be escaped, since parity does not tell there.
    """
    if _has_escapes(data, dialect):
        return None
    view = np.frombuffer(data, dtype=np.uint8)
    newlines = _bitmap(view == 10)
    ends = newlines
    stops_quoted = False
    if dialect.quote is not None:
        quotes = _bitmap(view == ord(dialect.quote))
        inside, stops_quoted = _inside(quotes, quoted)
        before = _delimiters(view, dialect) | newlines | quotes
        opens = quotes & inside
        if (opens & ~_later(before, True)).any():
            return None
        ends = newlines & ~inside
    blank = bool((newlines & _later(newlines, True)).any())
    if not blank and b"\r" in data:
        blank = data.startswith(b"\r\n") or b"\n\r\n" in data
    words = np.flatnonzero(ends)
    if not len(words):
        return Tally(0, 0, 0, stops_quoted, blank)
    first, last = int(words[0]), int(words[-1])
    low, high = int(ends[first]), int(ends[last])
    return Tally(
        int(np.bitwise_count(ends).sum()),
        first * 64 + (low & -low).bit_length(),
        last * 64 + high.bit_length(),
        stops_quoted,
        blank,
    )


def quoted_after(data: bytes, dialect: Dialect) -> tuple[bool | None, bool | None]:
    """Whether a block that starts just after a newline stops inside a quoted field.

    The first answer is for a start outside a quoted field, the second for one inside. None where a
    quote stands in the middle of an unquoted field, as it does under the wrong assumption, or may
    be escaped.
    """
    if dialect.quote is None:
        return False, None
    if _has_escapes(data, dialect):
        return None, None
    view = np.frombuffer(data, dtype=np.uint8)
    quotes = _bitmap(view == ord(dialect.quote))
    if not quotes.any():
        return False, True
    inside, odd = _inside(quotes, False)
    before = _delimiters(view, dialect) | _bitmap(view == 10) | quotes
    strays = quotes & ~_later(before, True)
    outside_fits = not (strays & inside).any()
    inside_fits = not (strays & ~inside).any()
    return (odd if outside_fits else None), (not odd if inside_fits else None)


def _has_escapes(data: bytes, dialect: Dialect) -> bool:
    return dialect.escape is not None and dialect.escape.encode() in data


def _delimiters(view: Any, dialect: Dialect) -> Any:
    """The last byte of each delimiter."""
    mark = dialect.delimiter_bytes
    found = _bitmap(view == mark[0])
    for byte in mark[1:]:
        found = _later(found, False) & _bitmap(view == byte)
    return found


def _bitmap(mask: Any) -> Any:
    """64-bit words, the first byte's bit the lowest; what is over is zero."""
    packed = np.packbits(mask, bitorder="little")
    over = -len(packed) % 8
    if over:
        packed = np.concatenate((packed, np.zeros(over, dtype=np.uint8)))
    return packed.view(np.uint64)


def _inside(quotes: Any, quoted: bool) -> tuple[Any, bool]:
    """For each byte whether it stands in a quoted field or opens one; and whether the last does."""
    inside = quotes.copy()
    shifted = np.empty_like(inside)
    for shift in _SHIFTS:
        np.left_shift(inside, shift, out=shifted)
        np.bitwise_xor(inside, shifted, out=inside)
    odd = np.bitwise_xor.accumulate(inside >> _TOP)
    carried = np.empty_like(odd)
    carried[0] = 0
    carried[1:] = odd[:-1]
    if quoted:
        carried ^= _ONE
    # Zero less one is all ones, which turns a whole word over.
    inside ^= np.uint64(0) - carried
    return inside, bool(int(odd[-1]) ^ int(quoted))


def _later(bits: Any, first: bool) -> Any:
    """The bitmap moved by one byte towards the end."""
    moved = bits << _ONE
    moved[1:] |= bits[:-1] >> _TOP
    if first:
        moved[0] |= _ONE
    return moved

"""Records counted on bitmaps, one bit a byte, where their positions are not needed.

Whether a byte lies inside a quoted field is the parity of the quotes up to it; over a bitmap of
quotes that is a prefix sum modulo two, which six shifts give for 64 bytes at once (Langdale and
Lemire 2019, "Parsing Gigabytes of JSON per Second").
"""

from __future__ import annotations

import threading
from dataclasses import dataclass
from typing import Any

import numpy as np

from splarn.core.layout.dialect import Dialect

_ONE, _TOP = np.uint64(1), np.uint64(63)
# A mask of a large block costs more to have from the system than to fill.
_scratch = threading.local()
Buffer = bytes | bytearray | memoryview
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


def tally(data: Buffer, dialect: Dialect, quoted: bool = False) -> Tally | None:
    """Counts the records that end in a block which starts just after a newline.

    `quoted` says whether that newline was inside a quoted field. None where a quote stands in the
    middle of an unquoted field or may be escaped, since parity does not tell there.
    """
    return judge(data, dialect)[int(quoted)]


def judge(data: Buffer, dialect: Dialect) -> tuple[Tally | None, Tally | None]:
    """The tally of a block that starts just after a newline, for both that it may have been.

    The first is for a start outside a quoted field, the second for one inside. None where a quote
    stands in the middle of an unquoted field, as it does under the wrong assumption, or may be
    escaped.
    """
    view = np.frombuffer(data, dtype=np.uint8)
    if dialect.escape is not None and _where(view, ord(dialect.escape)).any():
        return None, None
    newlines = _bitmap(view, 10)
    blank = bool((newlines & _later(newlines, True)).any())
    if not blank and _where(view, 13).any():
        returns = _bitmap(view, 13)
        blank = bool((newlines & _later(returns & _later(newlines, True), False)).any())
    if dialect.quote is None:
        return _tally(newlines, False, blank), None
    quotes = _bitmap(view, ord(dialect.quote))
    if not quotes.any():
        return _tally(newlines, False, blank), Tally(0, 0, 0, True, blank)
    inside, odd = _inside(quotes)
    before = _delimiters(view, dialect) | newlines | quotes
    strays = quotes & ~_later(before, True)
    return (
        None if (strays & inside).any() else _tally(newlines & ~inside, odd, blank),
        None if (strays & ~inside).any() else _tally(newlines & inside, not odd, blank),
    )


def has_run(data: Buffer, low: int, high: int, length: int) -> bool:
    """Whether so many bytes in a row lie between two values; `length` is a power of two up to 32.

    Each bit is joined with its neighbours, then with theirs, so that few steps tell.
    """
    view = np.frombuffer(data, dtype=np.uint8)
    packed = np.packbits((view - np.uint8(low)) <= high - low, bitorder="little")
    over = -len(packed) % 8
    if over:
        packed = np.concatenate((packed, np.zeros(over, dtype=np.uint8)))
    bits = packed.view(np.uint64)
    step = 1
    while step < length:
        moved = bits >> np.uint64(step)
        moved[:-1] |= bits[1:] << np.uint64(64 - step)
        bits = bits & moved
        step *= 2
    return bool(bits.any())


def _tally(ends: Any, stops_quoted: bool, blank: bool) -> Tally:
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


def _delimiters(view: Any, dialect: Dialect) -> Any:
    """The last byte of each delimiter."""
    mark = dialect.delimiter_bytes
    found = _bitmap(view, mark[0])
    for byte in mark[1:]:
        found = _later(found, False) & _bitmap(view, byte)
    return found


def _where(view: Any, byte: int) -> Any:
    """A mask of the bytes of a value, good until this thread asks for another one."""
    mask = getattr(_scratch, "mask", None)
    if mask is None or len(mask) < len(view):
        mask = _scratch.mask = np.empty(max(len(view), 1 << 20), dtype=bool)
    return np.equal(view, byte, out=mask[: len(view)])


def _bitmap(view: Any, byte: int) -> Any:
    """Where a value stands: 64-bit words, the first byte's bit the lowest, what is over zero."""
    packed = np.packbits(_where(view, byte), bitorder="little")
    over = -len(packed) % 8
    if over:
        packed = np.concatenate((packed, np.zeros(over, dtype=np.uint8)))
    return packed.view(np.uint64)


def _inside(quotes: Any) -> tuple[Any, bool]:
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
    # Zero less one is all ones, which turns a whole word over.
    inside ^= np.uint64(0) - carried
    return inside, bool(odd[-1])


def _later(bits: Any, first: bool) -> Any:
    """The bitmap moved by one byte towards the end."""
    moved = bits << _ONE
    moved[1:] |= bits[:-1] >> _TOP
    if first:
        moved[0] |= _ONE
    return moved

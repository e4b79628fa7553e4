"""Records found on bitmaps, one bit a byte, so that a block is judged at the speed of memory.

Whether a byte lies inside a quoted field is the parity of the quotes up to it; over a bitmap of
quotes that is a prefix sum modulo two, which six shifts give for 64 bytes at once (Langdale and
Lemire 2019, "Parsing Gigabytes of JSON per Second").
"""

from __future__ import annotations

import threading
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from splarn.core import kernel
from splarn.core.layout.dialect import Dialect

_ONE, _TOP = np.uint64(1), np.uint64(63)
# A mask of a large block costs more to have from the system than to fill.
_scratch = threading.local()
Buffer = bytes | bytearray | memoryview
Words = npt.NDArray[np.uint64]
_SHIFTS = tuple(np.uint64(1 << power) for power in range(6))
NEWLINE, RETURN = 10, 13


class Bitmaps:
    """Where bytes of some values stand in a block; each is found once, when it is first asked for.

    A bitmap is an array of 64-bit words, the first byte's bit the lowest; what is over is zero.
    """

    def __init__(self, data: Buffer) -> None:
        self.view = np.frombuffer(data, dtype=np.uint8)
        # What stands in quoted fields, once it is known.
        self.inside: Words | None = None
        self._found: dict[int | tuple[int, int], Words] = {}

    def of(self, byte: int) -> Words:
        """Where a value stands."""
        if byte not in self._found:
            self._found[byte] = _packed(np.equal(self.view, byte, out=_mask(self.view)))
        return self._found[byte]

    def between(self, low: int, high: int) -> Words:
        """Where any of neighbouring values stands."""
        if (low, high) not in self._found:
            room = _mask(self.view)
            # What lies below wraps around to values far above.
            moved = np.subtract(self.view, np.uint8(low), out=room.view(np.uint8))
            self._found[low, high] = _packed(np.less_equal(moved, high - low, out=room))
        return self._found[low, high]

    def delimiters(self, dialect: Dialect) -> Words:
        """The last byte of each delimiter."""
        mark = dialect.delimiter_bytes
        ends = self.of(mark[0])
        for byte in mark[1:]:
            ends = later(ends, False) & self.of(byte)
        return ends

    def field_starts(self, dialect: Dialect) -> Words:
        """Where fields begin, behind an opening quote too, and what may lie in quoted fields."""
        ends = self.delimiters(dialect) | self.of(NEWLINE)
        if self.inside is not None:
            ends = ends & ~self.inside
        starts = later(ends, True)
        if dialect.quote is None:
            return starts
        return starts | later(starts & self.of(ord(dialect.quote)), False)


@dataclass(frozen=True)
class Tally:
    """What a block holds: how many records end, and just after which bytes the first and last do.

    `quoted` says whether it stops inside a quoted field; `blank` whether two newlines touch, or
    one opens the block. `ends` has the newlines that end a record.
    """

    rows: int
    first_end: int
    last_end: int
    quoted: bool
    blank: bool
    ends: Ends


class Ends:
    """Where records end, as a bitmap of the newlines that end them."""

    def __init__(self, words: Words) -> None:
        self.words = words

    @cached_property
    def _before(self) -> Any:
        """How many records end before each word."""
        counts = np.bitwise_count(self.words)
        return np.concatenate(([0], np.cumsum(counts, dtype=np.int64)))

    def behind(self, number: int) -> int:
        """Just after which byte the record of a number ends, counted from 0."""
        word = int(np.searchsorted(self._before, number, side="right")) - 1
        bits = int(self.words[word])
        for _ in range(number - int(self._before[word])):
            bits &= bits - 1
        return word * 64 + (bits & -bits).bit_length()

    def positions(self) -> npt.NDArray[np.int64]:
        """Just after which bytes records end, all of them."""
        bits = np.unpackbits(self.words.view(np.uint8), bitorder="little")
        return np.flatnonzero(bits) + 1


def tally(data: Buffer, dialect: Dialect, quoted: bool = False) -> Tally | None:
    """Counts the records that end in a block which starts just after a newline.

    `quoted` says whether that newline was inside a quoted field. None where a quote stands in the
    middle of an unquoted field or may be escaped, since parity does not tell there.
    """
    if kernel.available():
        return _by_kernel(data, dialect, quoted)
    return judged(Bitmaps(data), dialect)[int(quoted)]


def judge(data: Buffer, dialect: Dialect) -> tuple[Tally | None, Tally | None]:
    """The tally of a block that starts just after a newline, for both that it may have been.

    The first is for a start outside a quoted field, the second for one inside. None where a quote
    stands in the middle of an unquoted field, as it does under the wrong assumption, or may be
    escaped.
    """
    if kernel.available():
        return _by_kernel(data, dialect, False), _by_kernel(data, dialect, True)
    return judged(Bitmaps(data), dialect)


def _by_kernel(data: Buffer, dialect: Dialect, quoted: bool) -> Tally | None:
    found = kernel.tally(data, dialect, quoted, False)
    return None if found is None else Tally(*found[:5], Ends(np.zeros(0, np.uint64)))


def judged(bits: Bitmaps, dialect: Dialect) -> tuple[Tally | None, Tally | None]:
    """See judge. What the bitmaps hold as inside quotes is right where the first tally is one."""
    if dialect.escape is not None and bits.of(ord(dialect.escape)).any():
        return None, None
    newlines = bits.of(NEWLINE)
    blank = bool((newlines & later(newlines, True)).any())
    if not blank and bits.of(RETURN).any():
        returns = bits.of(RETURN)
        blank = bool((newlines & later(returns & later(newlines, True), False)).any())
    if dialect.quote is None:
        return _tally(newlines, False, blank), None
    quotes = bits.of(ord(dialect.quote))
    if not quotes.any():
        return _tally(newlines, False, blank), Tally(0, 0, 0, True, blank, Ends(newlines[:0]))
    inside, odd = _inside(quotes)
    bits.inside = inside
    before = bits.delimiters(dialect) | newlines | quotes
    strays = quotes & ~later(before, True)
    return (
        None if (strays & inside).any() else _tally(newlines & ~inside, odd, blank),
        None if (strays & ~inside).any() else _tally(newlines & inside, not odd, blank),
    )


def has_run(bits: Words, length: int) -> bool:
    """Whether so many bits in a row are set; `length` is a power of two up to 32.

    Each bit is joined with its neighbours, then with theirs, so that few steps tell.
    """
    step = 1
    while step < length:
        moved = bits >> np.uint64(step)
        moved[:-1] |= bits[1:] << np.uint64(64 - step)
        bits = bits & moved
        step *= 2
    return bool(bits.any())


def later(bits: Words, first: bool) -> Words:
    """The bitmap moved by one byte towards the end; `first` is what the first byte gets."""
    moved = bits << _ONE
    moved[1:] |= bits[:-1] >> _TOP
    if first and len(moved):
        moved[0] |= _ONE
    return moved


def _tally(ends: Words, stops_quoted: bool, blank: bool) -> Tally:
    words = np.flatnonzero(ends)
    if not len(words):
        return Tally(0, 0, 0, stops_quoted, blank, Ends(ends))
    first, last = int(words[0]), int(words[-1])
    low, high = int(ends[first]), int(ends[last])
    return Tally(
        int(np.bitwise_count(ends).sum()),
        first * 64 + (low & -low).bit_length(),
        last * 64 + high.bit_length(),
        stops_quoted,
        blank,
        Ends(ends),
    )


def _mask(view: Any) -> Any:
    """Room for a mask of the bytes, good until this thread asks for another one."""
    mask = getattr(_scratch, "mask", None)
    if mask is None or len(mask) < len(view):
        mask = _scratch.mask = np.empty(max(len(view), 1 << 20), dtype=bool)
    return mask[: len(view)]


def _packed(mask: Any) -> Words:
    packed = np.packbits(mask, bitorder="little")
    over = -len(packed) % 8
    if over:
        packed = np.concatenate((packed, np.zeros(over, dtype=np.uint8)))
    return packed.view(np.uint64)


def _inside(quotes: Words) -> tuple[Words, bool]:
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

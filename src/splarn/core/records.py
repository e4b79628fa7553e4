"""Records in delimited text: where each one starts and ends, found on whole blocks of bytes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain
from typing import Any

import numpy as np
import numpy.typing as npt

from splarn.core.errors import OutsideError
from splarn.core.layout.dialect import Dialect

Positions = npt.NDArray[np.int64]

NEWLINE = 10
BLANKS = (b"\n", b"\r\n", b"\r")
BOM = b"\xef\xbb\xbf"
MAX_RECORD = 64 << 20


@dataclass(frozen=True)
class Scan:
    """What a block holds: `ends` are offsets just after each record's newline.

    `quoted` says whether the block stops inside a quoted field; `stray` whether a quote stands
    where it is plain text.
    """

    ends: Positions
    quoted: bool
    stray: bool


def scan(data: Any, dialect: Dialect, quoted: bool = False) -> Scan:
    """Finds the record ends in a block that starts just after a newline.

    `quoted` says whether that newline was inside a quoted field. Any quote opens or closes in turn
    as long as each opening one stands at the start of a field; that is checked on whole arrays, and
    only a block where it fails is walked field by field.
    """
    view = np.frombuffer(data, dtype=np.uint8)
    newlines = np.flatnonzero(view == NEWLINE)
    if dialect.quote is None:
        return Scan(newlines + 1, False, False)
    quotes = np.flatnonzero(view == ord(dialect.quote))
    if not len(quotes):
        ends = newlines[:0] if quoted else newlines + 1
        return Scan(ends, quoted, False)
    if not _all_open_fields(view, quotes[int(quoted) :: 2], dialect):
        return _walk(bytes(data), dialect, quoted)
    inside = (np.searchsorted(quotes, newlines) + int(quoted)) & 1
    return Scan(newlines[inside == 0] + 1, bool((len(quotes) + quoted) & 1), False)


def quoted_after(data: Any, dialect: Dialect, quoted: bool) -> bool | None:
    """Whether a block that starts just after a newline stops inside a quoted field.

    None when a quote stands where it is plain text, or `quoted` is not true of the block's start.
    """
    if dialect.quote is None:
        return False
    view = np.frombuffer(data, dtype=np.uint8)
    quotes = np.flatnonzero(view == ord(dialect.quote))
    if not _all_open_fields(view, quotes[int(quoted) :: 2], dialect):
        return None
    return bool((len(quotes) + quoted) & 1)


def _all_open_fields(view: Any, openers: Positions, dialect: Dialect) -> bool:
    before = view[openers - 1]
    fits = (before == ord(dialect.delimiter)) | (before == NEWLINE)
    fits |= before == ord(dialect.quote or "")
    if len(openers) and openers[0] == 0:
        fits[0] = True
    return bool(fits.all())


@lru_cache(maxsize=32)
def _patterns(delimiter: str, quote: str) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    d, q = re.escape(delimiter.encode()), re.escape(quote.encode())
    rest = rb"[^" + d + rb"\n]*"
    inside = rb"(?:[^" + q + rb"]|" + q + q + rb")*+"
    field = (
        rb"(?:" + q + inside + rb"(?:" + q + rest + rb"|(\Z))|" + rest + rb")(" + d + rb"|\n|\Z)"
    )
    resume = inside + rb"(?:" + q + rest + rb"|(\Z))(" + d + rb"|\n|\Z)"
    return re.compile(field), re.compile(resume)


def _walk(data: bytes, dialect: Dialect, quoted: bool) -> Scan:
    field, resume = _patterns(dialect.delimiter, dialect.quote or "")
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
    return Scan(np.array(ends, dtype=np.int64), open_quote, True)


@dataclass(frozen=True)
class Chunk:
    """Whole records, with where they stand in their file.

    `starts` and `ends` are offsets into `data`, one pair a record, blank lines left out. `offset`
    counts unpacked bytes before `data`, `row` the records and `line` the lines before it.
    """

    data: bytes
    starts: Positions
    ends: Positions
    offset: int
    row: int
    line: int
    stray: bool
    open_quote: bool = False

    @property
    def rows(self) -> int:
        """Records in the chunk."""
        return len(self.starts)

    def pieces(self, chosen: Any) -> list[bytes]:
        """The raw bytes of the `chosen` records (a slice or ascending indexes), and no others.

        Neighbours come in one piece; the last record gets a newline where the file has none.
        """
        lows, highs = self.starts[chosen], self.ends[chosen]
        if not len(lows):
            return []
        gaps = np.flatnonzero(lows[1:] != highs[:-1])
        begins = np.concatenate((lows[:1], lows[gaps + 1])).tolist()
        stops = np.concatenate((highs[gaps], highs[-1:])).tolist()
        found = [self.data[a:b] for a, b in zip(begins, stops, strict=True)]
        if not found[-1].endswith(b"\n"):
            found[-1] += b"\n"
        return found

    def longest(self, chosen: slice = slice(None)) -> int:
        """The bytes of the longest of the `chosen` records."""
        return int((self.ends[chosen] - self.starts[chosen]).max())

    def line_of(self, index: int) -> int:
        """The line, counted from 1, on which a record of the chunk starts."""
        return self.line + 1 + self.data.count(b"\n", 0, int(self.starts[index]))


def record_chunks(
    blocks: Iterable[bytes],
    dialect: Dialect,
    size: int = 4 << 20,
    *,
    where: str,
    offset: int = 0,
    row: int = 0,
    line: int = 0,
) -> Iterator[Chunk]:
    """Chunks of about `size` bytes, cut between records, from a stream that starts at a record.

    `offset`, `row` and `line` are what lies before the stream. A byte-order mark and, at offset 0,
    the header record are passed over when the dialect has one.
    Raises OutsideError when one record is larger than 64 MiB, which a quote left open causes.
    """
    first = offset == 0
    if first:
        offset, blocks = skip_mark(blocks)
    for data, found, last in _aligned(blocks, dialect, size, where, offset, line):
        ends = found.ends
        if last and (not len(ends) or ends[-1] != len(data)):
            ends = np.append(ends, len(data))
        starts = np.empty_like(ends)
        if len(ends):
            starts[0] = 0
            starts[1:] = ends[:-1]
        skip = int(first and dialect.header)
        if len(data):
            first = False
        starts, ends = _without_blanks(data, starts, ends)
        starts, ends = starts[skip:], ends[skip:]
        if len(starts):
            yield Chunk(data, starts, ends, offset, row, line, found.stray, found.quoted and last)
        row += len(starts)
        line += data.count(b"\n")
        offset += len(data)


def skip_mark(blocks: Iterable[bytes]) -> tuple[int, Iterator[bytes]]:
    """Takes the byte-order mark off a file's first block; returns its length and the blocks."""
    rest = iter(blocks)
    head = next(rest, b"")
    length = len(BOM) if head.startswith(BOM) else 0
    return length, chain([head[length:]], rest)


def _without_blanks(data: bytes, starts: Positions, ends: Positions) -> tuple[Positions, Positions]:
    short = np.flatnonzero(ends - starts <= 2)
    if not len(short):
        return starts, ends
    blank = [index for index in short if data[starts[index] : ends[index]] in BLANKS]
    keep = np.ones(len(starts), dtype=bool)
    keep[blank] = False
    return starts[keep], ends[keep]


def _aligned(
    blocks: Iterable[bytes], dialect: Dialect, size: int, where: str, offset: int, line: int
) -> Iterator[tuple[bytes, Scan, bool]]:
    """Pieces that end at a record's end, the last one excepted; each with its scan and `last`."""
    pending: list[bytes] = []
    held = 0
    waiting = size
    for block in blocks:
        pending.append(block)
        held += len(block)
        if held < waiting:
            continue
        data = b"".join(pending)
        found = scan(data, dialect)
        if not len(found.ends):
            if held > MAX_RECORD:
                raise OutsideError(
                    f"{where} has a record longer than 64 MiB from byte {offset:,} on: a quote "
                    "that is never closed or a wrong quote character does this; check the layout."
                )
            pending, waiting = [data], held + size
            continue
        cut = int(found.ends[-1])
        yield data[:cut], Scan(found.ends, False, found.stray), False
        offset += cut
        pending, held, waiting = [data[cut:]], len(data) - cut, size
    data = b"".join(pending)
    if data:
        yield data, scan(data, dialect), True

"""Streams of blocks as chunks of whole records, what lies before the records passed over."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import chain
from typing import Any

import numpy as np

from splarn.core import kernel
from splarn.core.errors import OutsideError
from splarn.core.layout.dialect import LINES, Dialect
from splarn.core.records.bitmaps import Bitmaps, Ends, Tally, judged, tally
from splarn.core.records.scanning import (
    BLANKS,
    BOM,
    NEWLINE,
    Positions,
    Scan,
    scan,
)

MAX_RECORD = 32 << 20
# Of a longer record so many bytes are kept.
KEPT_OF_LONG = 1 << 16


class Records:
    """Where the records of a block stand: as positions, or on bitmaps while nobody asks for them.

    `bits` are the bitmaps that were made of the block, for whoever judges it next.
    """

    def __init__(
        self,
        rows: int,
        listed: tuple[Positions, Positions] | None = None,
        ends: Ends | None = None,
        bits: Bitmaps | None = None,
    ) -> None:
        self.rows = rows
        self._listed = listed
        self._ends = ends
        self.bits = bits

    @classmethod
    def at(cls, starts: Positions, ends: Positions) -> Records:
        """Records at known positions."""
        return cls(len(starts), (starts, ends))

    @property
    def listed(self) -> tuple[Positions, Positions]:
        """Where each starts and just after which byte it ends."""
        if self._listed is None:
            assert self._ends is not None, "there is one or the other"
            ends = self._ends.positions()
            starts = np.empty_like(ends)
            starts[:1] = 0
            starts[1:] = ends[:-1]
            self._listed = starts, ends
        return self._listed

    def start(self, index: int) -> int:
        """Where one starts."""
        if self._listed is not None or self._ends is None:
            return int(self.listed[0][index])
        return self._ends.behind(index - 1) if index else 0


@dataclass(frozen=True)
class Chunk:
    """Whole records, with where they stand in their file.

    `offset` counts unpacked bytes before `data`, `row` the records and `line` the lines before it.
    """

    data: bytes
    records: Records
    offset: int
    row: int
    line: int
    stray: bool
    open_quote: bool = False
    # What a single record takes that is too long to be kept: `data` is its beginning then.
    too_long: int = 0

    @property
    def size(self) -> int:
        """Unpacked bytes of the file that the chunk stands for."""
        return self.too_long or len(self.data)

    @property
    def rows(self) -> int:
        """Records in the chunk."""
        return self.records.rows

    @property
    def starts(self) -> Positions:
        """Where in `data` each record starts, blank lines left out."""
        return self.records.listed[0]

    @property
    def ends(self) -> Positions:
        """Just after which byte of `data` each record ends."""
        return self.records.listed[1]

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
        raw = [self.data[a:b] for a, b in zip(begins, stops, strict=True)]
        if not raw[-1].endswith(b"\n"):
            raw[-1] += b"\n"
        return raw

    def part(self, first: int, last: int) -> Chunk:
        """The records `first` to `last` as a chunk of their own."""
        if (first, last) == (0, self.rows):
            return self
        begin, end = int(self.starts[first]), int(self.ends[last - 1])
        return Chunk(
            data=self.data[begin:end],
            records=Records.at(self.starts[first:last] - begin, self.ends[first:last] - begin),
            offset=self.offset + begin,
            row=self.row + first,
            line=self.line_of(first) - 1,
            stray=self.stray,
            open_quote=self.open_quote and last == self.rows,
        )

    def only(self, chosen: Positions) -> Chunk:
        """Some of the records, in the same data; their numbers are counted anew."""
        records = Records.at(self.starts[chosen], self.ends[chosen])
        return replace(self, records=records)

    def longest(self, chosen: slice = slice(None)) -> int:
        """The bytes of the longest of the `chosen` records."""
        return self.too_long or int((self.ends[chosen] - self.starts[chosen]).max())

    def line_of(self, index: int) -> int:
        """The line, counted from 1, on which a record of the chunk starts."""
        return self.line + 1 + int(np.searchsorted(self._newlines, self.starts[index]))

    @cached_property
    def _newlines(self) -> Positions:
        """Where the lines end; found once, since every fault asks for its line."""
        return np.flatnonzero(np.frombuffer(self.data, dtype=np.uint8) == NEWLINE)


def record_chunks(
    blocks: Iterable[bytes],
    dialect: Dialect,
    size: int = 2 << 20,
    *,
    where: str,
    offset: int = 0,
    row: int = 0,
    line: int = 0,
) -> Iterator[Chunk]:
    """Chunks of about `size` bytes, cut between records, from a stream that starts at a record.

    `offset`, `row` and `line` are what lies before the stream. At offset 0, a byte-order mark, the
    lines before the header and the header itself are passed over. A record of more than 32 MiB,
    which a quote left open causes, comes as a chunk of its own that is `too_long`.
    """
    dialect = dialect.as_read
    # Blanks alone are no JSON value, while in delimited text they are one.
    is_json = dialect.quote is None and not dialect.header and dialect == LINES
    header = dialect.header_rows if offset == 0 and dialect.header else 0
    if offset == 0:
        offset, line, blocks = skip_beginning(blocks, dialect)
    for data, scanned, last, too_long in _aligned(blocks, dialect, size, not is_json):
        if isinstance(scanned, _OnBits):
            if header:
                scanned = scan(data, dialect)
            else:
                yield Chunk(data, scanned.records, offset, row, line, False)
                row += scanned.records.rows
                line += scanned.lines
                offset += len(data)
                continue
        if too_long:
            whole = np.array([len(data)], dtype=np.int64)
            if header:
                header -= 1
            else:
                yield Chunk(
                    data=data,
                    records=Records.at(whole * 0, whole),
                    offset=offset,
                    row=row,
                    line=line,
                    stray=True,
                    open_quote=False,
                    too_long=too_long,
                )
                row += 1
            line += scanned.lines
            offset += too_long
            continue
        ends = scanned.ends
        if last and (not len(ends) or ends[-1] != len(data)):
            ends = np.append(ends, len(data))
        starts = np.empty_like(ends)
        if len(ends):
            starts[0] = 0
            starts[1:] = ends[:-1]
        starts, ends = _without_blanks(data, starts, ends, b" \t\r\n" if is_json else None)
        skip = min(header, len(starts))
        header -= skip
        starts, ends = starts[skip:], ends[skip:]
        if len(starts):
            yield Chunk(
                data=data,
                records=Records.at(starts, ends),
                offset=offset,
                row=row,
                line=line,
                stray=scanned.stray,
                open_quote=scanned.quoted and last,
            )
        row += len(starts)
        line += scanned.lines
        offset += len(data)


def skip_mark(blocks: Iterable[bytes]) -> tuple[int, Iterator[bytes]]:
    """Takes the byte-order mark off a file's first block; returns its length and the blocks."""
    following = iter(blocks)
    head = next(following, b"")
    length = len(BOM) if head.startswith(BOM) else 0
    return length, chain([head[length:]], following)


def skip_beginning(blocks: Iterable[bytes], dialect: Dialect) -> tuple[int, int, Iterator[bytes]]:
    """Takes off what stands before the header: bytes and lines that were passed, and the blocks."""
    length, following = skip_mark(blocks)
    left = dialect.before
    while left:
        block = next(following, b"")
        if not block:
            break
        at = 0
        while left and (end := block.find(b"\n", at) + 1):
            at, left = end, left - 1
        if left:
            length += len(block)
            continue
        length += at
        following = chain([block[at:]], following)
    return length, dialect.before - left, following


def _without_blanks(
    data: bytes, starts: Positions, ends: Positions, blanks: bytes | None
) -> tuple[Positions, Positions]:
    """The records that are no blank lines; with `blanks`, lines of such bytes alone are some."""
    short = np.flatnonzero(ends - starts <= (2 if blanks is None else 1 << 10))
    if not len(short):
        return starts, ends
    if blanks is not None:
        view = np.frombuffer(data, dtype=np.uint8)
        short = short[view[starts[short]] <= 32]
        empty = [index for index in short if not data[starts[index] : ends[index]].strip(blanks)]
        keep = np.ones(len(starts), dtype=bool)
        keep[empty] = False
        return starts[keep], ends[keep]
    blank = [index for index in short if data[starts[index] : ends[index]] in BLANKS]
    keep = np.ones(len(starts), dtype=bool)
    keep[blank] = False
    return starts[keep], ends[keep]


@dataclass(frozen=True)
class _OnBits:
    """A block's records on bitmaps: no blank line among them, and no stray quote."""

    records: Records
    lines: int


def _on_bits(data: bytes, dialect: Dialect) -> tuple[int, _OnBits] | None:
    """Where the last record of a block ends, and its records; None where bitmaps do not tell."""
    if kernel.available():
        found = kernel.tally(data, dialect, False, True)
        if found is None or found.blank or not found.rows:
            return None
        starts = np.empty_like(found.ends)
        starts[0] = 0
        starts[1:] = found.ends[:-1]
        return found.last_end, _OnBits(Records.at(starts, found.ends), found.lines)
    bits = Bitmaps(data)
    judgement = judged(bits, dialect)[0]
    if judgement is None or judgement.blank or not judgement.rows:
        return None
    newlines = bits.of(NEWLINE)
    # Behind the last record's end are newlines of one that is not whole yet.
    behind = data.count(b"\n", judgement.last_end) if judgement.last_end < len(data) else 0
    lines = int(np.bitwise_count(newlines).sum()) - behind
    return judgement.last_end, _OnBits(
        Records(judgement.rows, ends=judgement.ends, bits=bits), lines
    )


def _aligned(
    blocks: Iterable[bytes], dialect: Dialect, size: int, try_bits: bool
) -> Iterator[tuple[bytes, Scan | _OnBits, bool, int]]:
    """Pieces that end at a record's end, the last one excepted; each with its scan and `last`.

    The last figure is 0, or what a record takes that is too long; its piece is its beginning.
    """
    pending: list[bytes] = []
    held = 0
    waiting = size
    rest_of = iter(blocks)
    for block in rest_of:
        pending.append(block)
        held += len(block)
        if held < waiting:
            continue
        data = b"".join(pending)
        quick = _on_bits(data, dialect) if try_bits else None
        if quick is not None:
            cut, records = quick
            yield data[:cut], records, False, 0
            tail = data[cut:]
            pending, held, waiting = [tail], len(tail), size
            continue
        scanned = scan(data, dialect)
        if not len(scanned.ends):
            if held > MAX_RECORD:
                length, lines, after = _end_of_long(rest_of, dialect, scanned.quoted)
                long = Scan(scanned.ends, False, True, scanned.lines + lines)
                yield data[:KEPT_OF_LONG], long, False, held + length
                pending, held, waiting = [after], len(after), size
                continue
            pending, waiting = [data], held + size
            continue
        cut = int(scanned.ends[-1])
        tail = data[cut:]
        lines = scanned.lines - tail.count(b"\n")
        yield data[:cut], replace(scanned, quoted=False, lines=lines), False, 0
        pending, held, waiting = [tail], len(tail), size
    data = b"".join(pending)
    if data:
        yield data, scan(data, dialect), True, 0


def _end_of_long(blocks: Iterator[bytes], dialect: Dialect, quoted: bool) -> tuple[int, int, bytes]:
    """Passes over the rest of a record: its bytes and lines, and what was read behind it.

    Nothing of it is kept. Where it is in a quoted field, the quotes that pass tell its end.
    """
    passed = lines = odd = 0
    for block in blocks:
        view = np.frombuffer(block, dtype=np.uint8)
        newlines = np.flatnonzero(view == NEWLINE)
        ends = newlines
        if quoted and dialect.quote is not None:
            quotes = np.flatnonzero(view == ord(dialect.quote))
            ends = newlines[(np.searchsorted(quotes, newlines) + odd) & 1 == 1]
            odd = (odd + len(quotes)) & 1
        if len(ends):
            end = int(ends[0]) + 1
            return passed + end, lines + int(np.searchsorted(newlines, end)), block[end:]
        passed, lines = passed + len(block), lines + len(newlines)
    return passed, lines, b""


def line_blocks(
    blocks: Iterator[bytes], dialect: Dialect, where: str
) -> Iterator[tuple[bytes, int, int]]:
    """A stream that starts at a record, as it came but for blank lines and a missing last newline.

    Gives blocks of whole lines, which may end inside a record, each with how many records end in it
    and the bytes of the longest of those that reach over a block's edge. Nothing is cut at records,
    so nothing is copied for that. Raises OutsideError as `record_chunks` does.
    """
    dialect = dialect.as_read
    pending = b""
    quoted, open_bytes = False, 0
    for block in blocks:
        data = pending + block
        cut = data.rfind(b"\n") + 1
        body, pending = data[:cut], data[cut:]
        if len(pending) + open_bytes > MAX_RECORD:
            raise OutsideError(
                f"{where} has a record longer than 32 MiB: a quote that is never closed or a wrong "
                "quote character does this; check the layout."
            )
        if not cut:
            continue
        counted = tally(body, dialect, quoted) or _slow_tally(body, dialect, quoted)
        if counted.blank and not open_bytes:
            yield from _careful_blocks(chain([data], blocks), dialect, where)
            return
        if counted.blank and counted.rows:
            # Blank lines are sought record by record, from the first one that starts here on.
            yield body[: counted.first_end], 1, counted.first_end + open_bytes
            following = chain([data[counted.first_end :]], blocks)
            yield from _careful_blocks(following, dialect, where)
            return
        yield body, counted.rows, counted.first_end + open_bytes if counted.rows else 0
        open_bytes = len(body) - counted.last_end if counted.rows else open_bytes + len(body)
        quoted = counted.quoted
    if pending and not (pending == b"\r" and not open_bytes):
        yield pending + b"\n", 1, len(pending) + open_bytes
    elif open_bytes:
        yield b"", 1, open_bytes


def _slow_tally(body: bytes, dialect: Dialect, quoted: bool) -> Tally:
    scanned = scan(body, dialect, quoted)
    rows = len(scanned.ends)
    first, last = (int(scanned.ends[0]), int(scanned.ends[-1])) if rows else (0, 0)
    blank = body.startswith((b"\n", b"\r\n")) or b"\n\n" in body or b"\n\r\n" in body
    return Tally(rows, first, last, scanned.quoted, blank, Ends(np.zeros(0, dtype=np.uint64)))


def _careful_blocks(
    blocks: Iterator[bytes], dialect: Dialect, where: str
) -> Iterator[tuple[bytes, int, int]]:
    for chunk in record_chunks(blocks, dialect, 1 << 20, where=where, offset=1):
        yield b"".join(chunk.pieces(slice(None))), chunk.rows, chunk.longest()

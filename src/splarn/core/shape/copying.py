"""The source's own bytes, taken out of its files record by record or in blocks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType

from splarn.core.errors import RequestError
from splarn.core.layout import Dialect
from splarn.core.records.chunks import line_blocks, record_chunks, skip_beginning
from splarn.core.shape.manifest import SourceRange
from splarn.core.source.codecs import read_blocks
from splarn.core.source.passing import Passing
from splarn.core.source.places import place
from splarn.core.source.ranges import Counted
from splarn.core.units import exact_size, show_count

LOOK = 1 << 20
_NONE: Mapping[SourceRange, Counted] = MappingProxyType({})


def refuse_longer(longest: int, part_bytes: int, path: object) -> None:
    """Raises RequestError when a record is longer than a part."""
    if longest > part_bytes:
        raise RequestError(
            f"A part size of {exact_size(part_bytes)} is smaller than a record of {path}, which "
            f"takes {show_count(longest)} bytes: give a larger --part-size."
        )


def records(
    source: Sequence[SourceRange],
    dialect: Dialect,
    limit: int | None = None,
    reader: Sequential | Passing | None = None,
) -> Iterator[tuple[bytes, int]]:
    """Whole records of the ranges one after the other, with how many; headers left out.

    Raises RequestError when one is longer than the limit.
    """
    read = read_blocks if reader is None else reader.read
    for piece in source:
        path = place(piece.path)
        blocks = read(path, piece.codec, piece.start, piece.end)
        for chunk in record_chunks(blocks, dialect, LOOK, where=str(path), offset=piece.start):
            if limit is not None:
                refuse_longer(chunk.longest(), limit, path)
            yield b"".join(chunk.pieces(slice(None))), chunk.rows


class Sequential:
    """Ranges of packed files read one after the other, each file unpacked only once."""

    def __init__(self) -> None:
        self._path: object = None
        self._at = 0
        self._blocks: Iterator[bytes] = iter(())
        self._rest = b""

    def read(self, path: object, codec: str, start: int, end: int | None) -> Iterator[bytes]:
        """The blocks of a range. A range before the last one's end begins the file anew."""
        if (path, True) != (self._path, start >= self._at):
            self._path, self._at, self._rest = path, 0, b""
            self._blocks = read_blocks(path, codec)  # type: ignore[arg-type]
        while end is None or self._at < end:
            block = self._rest or next(self._blocks, b"")
            if not block:
                return
            low = max(start - self._at, 0)
            high = len(block) if end is None else min(end - self._at, len(block))
            self._rest = block[high:]
            self._at += high
            if low < high:
                yield block[low:high]


def copied(
    source: Sequence[SourceRange],
    dialect: Dialect,
    limit: int | None = None,
    counted: Mapping[SourceRange, Counted] = _NONE,
    passing: Passing | None = None,
) -> Iterator[tuple[bytes, int]]:
    """The bytes that `records` gives, in blocks that may end inside a record, and so faster.

    Ranges that are `counted` already are not looked into. `passing` is told what is read.

    The counts are of records that end in each block. Raises RequestError as `records` does.
    """
    passing = passing or Passing({})
    for piece in source:
        # A record within a block can be longer than a small part: look at each of them then.
        if piece.codec != "none" or (limit is not None and limit < LOOK):
            yield from records([piece], dialect, limit, passing)
            continue
        path = place(piece.path)
        known = counted.get(piece)
        if known is not None:
            if limit is not None:
                refuse_longer(known.longest, limit, path)
            yield from _as_they_are(piece, known, dialect, passing)
            continue
        blocks = passing.read(path, "none", piece.start, piece.end, LOOK)
        if piece.start == 0:
            blocks = _without_header(blocks, dialect, str(path))
        for data, rows, longest in line_blocks(blocks, dialect, str(path)):
            if limit is not None:
                refuse_longer(longest, limit, path)
            yield data, rows


def _as_they_are(
    piece: SourceRange, known: Counted, dialect: Dialect, passing: Passing
) -> Iterator[tuple[bytes, int]]:
    path = place(piece.path)
    blocks = passing.read(path, "none", piece.start, piece.end, LOOK)
    rows = known.rows
    if piece.start == 0:
        blocks = _without_header(blocks, dialect, str(path))
        rows -= dialect.header_rows if dialect.header else 0
    for data in blocks:
        yield data, rows
        rows = 0


def _without_header(blocks: Iterator[bytes], dialect: Dialect, where: str) -> Iterator[bytes]:
    """The blocks without the mark, the lines before the header, and the header itself."""
    _, _, blocks = skip_beginning(blocks, dialect)
    for _ in range(dialect.header_rows if dialect.header else 0):
        blocks = _without_first(blocks, dialect, where)
    return blocks


def _without_first(blocks: Iterator[bytes], dialect: Dialect, where: str) -> Iterator[bytes]:
    """The blocks without the first record, which may be preceded by blank lines."""
    headless = replace(dialect, header=False, before=0)
    held = b""
    for block in blocks:
        held += block
        chunk = next(record_chunks([held], headless, where=where, offset=1), None)
        if chunk is not None and int(chunk.ends[0]) < len(held):
            yield held[int(chunk.ends[0]) :]
            yield from blocks
            return

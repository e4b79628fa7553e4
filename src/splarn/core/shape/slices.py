"""Stretches of records on their way from a source into a cut, and what a cut took of each."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from splarn.core.reading.faults import Fault
from splarn.core.records.chunks import Chunk
from splarn.core.shape.manifest import SourceRange
from splarn.core.source.places import place

if TYPE_CHECKING:
    from splarn.core.reading.parsed import Parsed


@dataclass(frozen=True)
class Count:
    """What a cut took out of one file. Rows and lines of the faults count from the cut's start."""

    path: str
    rows: int
    lines: int
    faults: tuple[Fault, ...] = ()


@dataclass(frozen=True)
class Slice:
    """Neighbouring records of one source file that go into one cut.

    `index` is the file's place in the task, `at` where the records start in it; `row` and `line`
    count what lies before them in its range.
    """

    cut: int
    index: int
    at: int
    row: int
    line: int
    rows: int
    chunk: Chunk | None = None
    parsed: Parsed | None = None


@dataclass(frozen=True)
class Encoded:
    """A slice made ready: packed text, or a table where it is still to be sorted or grouped."""

    slice: Slice
    packed: bytes = b""
    data: bytes = b""
    rows: int = 0
    table: Any = None
    faults: tuple[Fault, ...] = ()
    # Of a copy: bytes and lines of the data, which is not kept.
    size: int = 0
    lines: int = 0


@dataclass(frozen=True)
class Share:
    """A cut's share of one source, from the rows and lines of `begins` to the line `line`."""

    range: SourceRange
    held: list[Encoded]
    begins: Slice
    line: int

    def count(self) -> Count:
        """Rows, lines and faults, counted from the cut's start."""
        row, line = self.begins.row, self.begins.line
        faults = tuple(
            replace(fault, row=fault.row - row, line=fault.line - line)
            for encoded in self.held
            for fault in encoded.faults
        )
        rows = sum(encoded.slice.rows for encoded in self.held)
        lines = self.line - line if self.line else rows
        return Count(str(place(self.range.path)), rows, lines, faults)


def end_of(piece: SourceRange) -> tuple[int, int] | None:
    """Records and lines of a source up to the end of a copied range."""
    if piece.row is None or piece.rows is None or piece.line is None or piece.lines is None:
        return None
    return piece.row + piece.rows, piece.line + piece.lines - 1

"""Where the records of a part lie in the delivery, so that faults name its own files and lines."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.layout import Layout
from splarn.core.reading.faults import Fault
from splarn.core.shape.manifest import Part, SourceRange


@dataclass(frozen=True)
class Piece:
    """`rows` neighbouring records of a part, which lie together in the file `path` too.

    `row` counts the records before them there. `line` is where they begin there, 0 where nothing
    tells, `part_line` that in the part; None where each has a line of its own there.
    """

    path: str
    rows: int
    row: int
    line: int
    part_line: int | None


def pieces_of(part: Part, layout: Layout) -> tuple[Piece, ...]:
    """The pieces of a part; none where its rows cannot be followed back."""
    pieces = []
    at = 1 + (layout.dialect.header_rows if layout.dialect.header else 0)
    for piece in part.source:
        if piece.row is None or piece.line is None or piece.rows is None or piece.lines is None:
            return ()
        if piece.converted:
            pieces += _converted(piece)
            continue
        pieces.append(Piece(piece.path, piece.rows, piece.row, piece.line, at))
        at += piece.lines
    return tuple(pieces)


def _converted(piece: SourceRange) -> list[Piece]:
    """A converted range without the records that were set aside."""
    assert piece.row is not None and piece.line is not None and piece.rows is not None
    even = piece.lines == piece.rows
    pieces, first = [], 0
    for gone in (*piece.gone, piece.rows + 1):
        rows = gone - 1 - first
        if rows:
            line = piece.line + first if even else 0
            pieces.append(Piece(piece.path, rows, piece.row + first, line, None))
        first = gone
    return pieces


def in_delivery(fault: Fault, pieces: Sequence[Piece]) -> Fault:
    """A fault of a part with the file, row and line that it has in the delivery."""
    before = 0
    for piece in pieces:
        if fault.row <= before + piece.rows:
            if piece.part_line is None:
                line = piece.line and piece.line + fault.row - before - 1
            else:
                line = piece.line + fault.line - piece.part_line
            return replace(
                fault,
                part=fault.path,
                part_row=fault.row,
                path=piece.path,
                row=piece.row + fault.row - before,
                line=line,
            )
        before += piece.rows
    return fault

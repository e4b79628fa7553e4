"""Where the records of a part lie in the delivery, so that faults name its own files and lines."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.layout import Layout
from splarn.core.reading.faults import Fault
from splarn.core.shape.manifest import Part


@dataclass(frozen=True)
class Piece:
    """`rows` neighbouring records of a part, which lie together in the file `path` too.

    `row` counts the records before them there. `line` is the line on which they begin there,
    `part_line` that in the part.
    """

    path: str
    rows: int
    row: int
    line: int
    part_line: int


def pieces_of(part: Part, layout: Layout) -> tuple[Piece, ...]:
    """The pieces of a part that was copied; none where its rows cannot be followed back."""
    pieces = []
    at = 1 + (layout.dialect.header_rows if layout.dialect.header else 0)
    for piece in part.source:
        if piece.row is None or piece.line is None or piece.rows is None or piece.lines is None:
            return ()
        pieces.append(Piece(piece.path, piece.rows, piece.row, piece.line, at))
        at += piece.lines
    return tuple(pieces)


def in_delivery(fault: Fault, pieces: Sequence[Piece]) -> Fault:
    """A fault of a part with the file, row and line that it has in the delivery."""
    before = 0
    for piece in pieces:
        if fault.row <= before + piece.rows:
            return replace(
                fault,
                part=fault.path,
                part_row=fault.row,
                path=piece.path,
                row=piece.row + fault.row - before,
                line=piece.line + fault.line - piece.part_line,
            )
        before += piece.rows
    return fault

"""One range of rows on its way into parts; a function over a picklable task."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from splarn.core.layout import Layout
from splarn.core.reading.text import delimited, header_line, json_lines
from splarn.core.shape.manifest import Part
from splarn.core.shape.part import ColumnarPart, TextPart
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.target.outgoing import Outgoing, RowRange, Wanted
from splarn.core.target.session import OpenEngine, Session
from splarn.core.work.lanes import report

# Rows that are written to a part at once, at most.
AT_ONCE = 20_000
# Where a part may end behind each piece, a piece is at most such a share of it.
PIECES = 8


@dataclass(frozen=True)
class UnloadTask:
    """Rows of a range (of all, if None) for parts named after `stem`.

    `made` is the layout of the parts. Where `cuts` says so, a part ends at the size of the format
    and another begins, named by its number; else all go into one. `held` is as in `Outgoing.hold`.
    """

    open_engine: OpenEngine
    held: str
    wanted: Wanted
    rows: RowRange | None
    made: Layout
    output: PartsFormat
    folder: Path
    stem: str
    cuts: bool


def run_unload_task(task: UnloadTask) -> tuple[Part, ...]:
    """Writes the parts of a task, each whole or not at all; none where there are no rows.

    Raises OutsideError when the engine or the disk fails, RequestError for a value that the parts
    cannot hold.
    """
    with closing(task.open_engine().connect()) as session:
        outgoing_of(session).join(task.held)
        return tuple(parts_of(task, outgoing_of(session)))


def outgoing_of(session: Session) -> Outgoing:
    """What gives the rows of a session's target back."""
    assert session.outgoing is not None, "asked before anything else"
    return session.outgoing


def parts_of(task: UnloadTask, outgoing: Outgoing) -> Iterator[Part]:
    """The parts as they become whole."""
    writing = _Writing(task)
    try:
        for piece, rows in _pieces(task, outgoing):
            if writing.is_full:
                yield writing.finish()
            writing.put(piece, rows)
            report(rows, rows)
        if task.rows is None and not writing.number:
            # A table without rows is known by a part without rows.
            writing.begin()
        if writing.part is not None:
            yield writing.finish()
    except BaseException:
        writing.discard()
        raise


def _pieces(task: UnloadTask, outgoing: Outgoing) -> Iterator[tuple[Any, int]]:
    """Rows as the parts take them: text that is written already, or typed ones."""
    made = task.made
    text = outgoing.text(task.wanted, made, task.rows) if made.format == "csv" else None
    if text is not None:
        yield from text
        return
    for table in outgoing.typed(task.wanted, made, task.rows):
        rows = AT_ONCE
        if task.cuts and task.output.part_rows:
            rows = task.output.part_rows
        elif task.cuts and table.nbytes:
            rows = int(task.output.part_bytes * len(table) / PIECES / table.nbytes)
        yield from _cut(table, min(max(rows, 1), AT_ONCE))


def _cut(table: Any, rows: int) -> Iterator[tuple[Any, int]]:
    for first in range(0, len(table), rows):
        piece = table.slice(first, rows)
        yield piece, len(piece)


class _Writing:
    """The part that is open, if one is."""

    def __init__(self, task: UnloadTask) -> None:
        self.task, self.number = task, 0
        self.part: TextPart | ColumnarPart | None = None

    @property
    def is_full(self) -> bool:
        """Whether another part is to begin."""
        if not self.task.cuts or self.part is None:
            return False
        output, file = self.task.output, self.part.file
        if output.part_rows:
            return file.rows >= output.part_rows
        return file.raw_bytes >= output.part_bytes

    def put(self, piece: Any, rows: int) -> None:
        """Adds rows, to a new part if none is open."""
        part = self.part or self.begin()
        if isinstance(part, ColumnarPart):
            part.put(piece)
            return
        made = self.task.made
        if not isinstance(piece, bytes):
            piece = json_lines(piece, made) if made.format == "jsonl" else delimited(piece, made)
        part.put(piece, rows)

    def finish(self) -> Part:
        """The open part, whole."""
        assert self.part is not None, "there is one"
        part, self.part = self.part, None
        return part.finish(())

    def discard(self) -> None:
        """Takes back what is not whole."""
        if self.part is not None:
            self.part.file.discard()

    def begin(self) -> TextPart | ColumnarPart:
        """Opens the next part."""
        task, output = self.task, self.task.output
        self.number += 1
        stem = f"{task.stem}-{self.number:04d}" if task.cuts else task.stem
        if task.made.format == "parquet":
            self.part = ColumnarPart(
                task.folder, stem, task.made, output.packing, output.row_group_rows,
                output.dictionary,
            )  # fmt: skip
            return self.part
        part = TextPart(task.folder, stem, task.made.format, output.packing)
        if task.made.dialect.header and task.made.format == "csv":
            part.put_header(header_line(task.made))
        self.part = part
        return part

"""What a worker does: takes records out of the source and writes them into parts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from splarn.core.shape.copying import copied
from splarn.core.shape.cutting import Cutting
from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.shape.part import TextPart
from splarn.core.shape.task import Cut, ShapeTask
from splarn.core.source.codecs import head_of, read_blocks
from splarn.core.source.passing import Passing
from splarn.core.source.places import place
from splarn.core.source.source import LOOK, first_record
from splarn.core.work.lanes import report
from splarn.core.work.pool import Inline, Pool

if TYPE_CHECKING:
    pass

CHUNK = 4 << 20


def run_shape_task(
    task: ShapeTask, note: Callable[[Cut], object] = lambda cut: None, pool: Pool | None = None
) -> list[Cut]:
    """Writes the parts of one task, each aside and renamed when whole; `note` is told of each cut.

    A `pool` shares the work of one task out. Raises RequestError for a record longer than a part,
    ShortfallError for a bad row in a conversion, OutsideError when reading or writing fails.
    """
    if not task.cutting and task.output.is_copy(task.layout):
        if task.done:
            # It was noted as whole, and only that nothing follows was not.
            return list(task.done)
        passing = Passing(task.extents)
        part = _copy(task, passing)
        cut = Cut((part,), stretches=tuple(passing.stretches))
        note(cut)
        return [cut]
    cuts = list(task.done)
    for cut in Cutting(task, pool or Inline()).run():
        note(cut)
        cuts.append(cut)
    return cuts


def _copy(task: ShapeTask, passing: Passing) -> Part:
    output = task.output
    limit = None if output.part_rows else output.part_bytes
    part = TextPart(task.folder, task.stem, output.format, output.packing)
    try:
        part.put_header(task.header)
        pieces = []
        for piece in task.source:
            rows = lines = size = 0
            for data, count in copied([piece], task.layout.dialect, limit, task.counted, passing):
                part.put(data, count)
                rows, lines = rows + count, lines + data.count(b"\n")
                size += len(data)
                report(len(data))
            pieces.append(_followed(piece, task, rows, lines, size))
        return part.finish(tuple(pieces))
    except BaseException:
        part.file.discard()
        raise


def _followed(piece: SourceRange, task: ShapeTask, rows: int, lines: int, size: int) -> SourceRange:
    """A range with what its copy told; lines can be followed back where no blank line was left out.

    `line` is that of the first record in a range that begins the file, else still to be told.
    """
    end = place(piece.path).stat().st_size if piece.end is None else piece.end
    skip, line = 0, None
    if piece.start == 0:
        known = task.extents.get(piece.path)
        if known is None:
            head = head_of(place(piece.path), piece.codec, LOOK)
            skip = first_record(head, task.layout.dialect, piece.path)
        else:
            skip = known.skip
            head = b"".join(read_blocks(place(piece.path), "none", 0, skip))
        line = 1 + head.count(b"\n", 0, skip)
    # A newline that the last record lacks is added.
    exact = end - piece.start - skip in (size, size - 1)
    return replace(piece, rows=rows, line=line, lines=lines if exact else None)

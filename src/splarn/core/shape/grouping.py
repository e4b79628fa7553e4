"""Which stretches of the source go into which part."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from splarn.core.layout import Dialect, Layout
from splarn.core.reading import cut_file, cut_files
from splarn.core.records.chunks import record_chunks
from splarn.core.shape.copying import copied
from splarn.core.shape.manifest import SourceRange
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.source.codecs import read_blocks
from splarn.core.source.places import Place, key_of
from splarn.core.source.ranges import Counted, Range
from splarn.core.source.source import Source
from splarn.core.work.pool import Pool

# Records are counted in ranges of this size where parts are to have so many.
COUNTED = 8 << 20


@dataclass
class Group:
    """Ranges that one task works on. `cutting` says that it cuts them into parts as it goes.

    `counted` is what is known of some of them already.
    """

    pieces: list[SourceRange] = field(default_factory=list)
    counted: dict[SourceRange, Counted] = field(default_factory=dict)
    cutting: bool = False
    room: int = 0


def group_sources(
    sources: Sequence[Source], layout: Layout, output: PartsFormat, pool: Pool
) -> list[Group]:
    """Groups in source order; remainders and small files share one.

    A packed file is unpacked from its start, so it is cut as it goes; small ones follow one another
    in one group. Raises OutsideError when a file cannot be read.
    """
    if output.part_rows:
        return list(_by_rows(sources, layout, output.part_rows, pool))
    groups: list[Group] = []
    size = output.part_bytes
    plain = cut_files([one for one in sources if one.codec == "none"], layout, size, pool)
    for one in sources:
        path, codec = one.place, one.codec
        if codec != "none":
            _add_packed(groups, one, size)
            continue
        for piece in next(plain):
            small = piece.packed < size
            entry = SourceRange(key_of(path), codec, piece.start, piece.end)
            fits = groups and not groups[-1].cutting and piece.packed <= groups[-1].room
            if not (small and fits):
                groups.append(Group(room=size if small else 0))
            groups[-1].pieces.append(entry)
            groups[-1].room -= piece.packed
            if piece.counted is not None:
                groups[-1].counted[entry] = piece.counted
    return groups


def _add_packed(groups: list[Group], one: Source, size: int) -> None:
    packed = one.size
    entry = SourceRange(key_of(one.place), one.codec, 0, None)
    if groups and groups[-1].cutting and packed <= groups[-1].room:
        groups[-1].pieces.append(entry)
        groups[-1].room -= packed
    else:
        groups.append(Group([entry], cutting=True, room=size - packed))


@dataclass(frozen=True)
class CountTask:
    """A range of one plain text file; picklable. `rows` are those whose place is asked for."""

    path: Place
    dialect: Dialect
    start: int
    end: int | None
    rows: tuple[int, ...] = ()


def count_rows(task: CountTask) -> int:
    """Records in a range."""
    source = SourceRange(key_of(task.path), "none", task.start, task.end)
    return sum(rows for _, rows in copied([source], task.dialect))


def locate_rows(task: CountTask) -> list[int]:
    """Where in the file the records of these numbers start, counted from 0 in the range."""
    offsets = []
    wanted = list(task.rows)
    blocks = read_blocks(task.path, "none", task.start, task.end)
    for chunk in record_chunks(blocks, task.dialect, where=str(task.path), offset=task.start):
        while wanted and wanted[0] < chunk.row + chunk.rows:
            offsets.append(chunk.offset + int(chunk.starts[wanted.pop(0) - chunk.row]))
        if not wanted:
            break
    return offsets


def _by_rows(
    sources: Sequence[Source], layout: Layout, part_rows: int, pool: Pool
) -> Iterator[Group]:
    """Groups of exactly so many records; a packed file is cut as it goes and shares no part."""
    group, room = Group(), part_rows
    for one in sources:
        path, codec = one.place, one.codec
        if codec != "none":
            if group.pieces:
                yield group
                group, room = Group(), part_rows
            yield Group([SourceRange(key_of(path), codec, 0, None)], cutting=True)
            continue
        ranges, counts = _counted(one, layout, pool)
        total = sum(counts)
        cuts = list(range(room, total, part_rows))
        edges = [0, *_places(path, layout, ranges, counts, cuts, pool), ranges[-1].end]
        for (start, end), (low, high) in zip(
            pairwise(edges), pairwise([0, *cuts, total]), strict=True
        ):
            assert start is not None, "only the last edge is open"
            group.pieces.append(SourceRange(key_of(path), codec, start, end))
            room -= high - low
            if room == 0:
                yield group
                group, room = Group(), part_rows
    if group.pieces:
        yield group


def _counted(source: Source, layout: Layout, pool: Pool) -> tuple[list[Range], list[int]]:
    ranges = cut_file(source, layout, COUNTED, pool)
    if layout.format == "parquet":
        return ranges, [(piece.end or 0) - piece.start for piece in ranges]
    tasks = [CountTask(source.place, layout.dialect, piece.start, piece.end) for piece in ranges]
    return ranges, list(pool.map(count_rows, tasks))


def _places(
    path: Place,
    layout: Layout,
    ranges: Sequence[Range],
    counts: Sequence[int],
    rows: Sequence[int],
    pool: Pool,
) -> list[int]:
    """Where in the file the records of these numbers start."""
    if layout.format == "parquet":
        return list(rows)
    tasks = []
    before = 0
    for piece, count in zip(ranges, counts, strict=True):
        low, high = bisect_left(rows, before), bisect_left(rows, before + count)
        inside = tuple(row - before for row in rows[low:high])
        if inside:
            tasks.append(CountTask(path, layout.dialect, piece.start, piece.end, inside))
        before += count
    return [at for offsets in pool.map(locate_rows, tasks) for at in offsets]

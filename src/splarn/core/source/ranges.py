"""Ranges: a file cut at record boundaries without reading it in one piece.

Whether a newline ends a record depends on every quote before it. Each stretch of the file is
therefore judged under both assumptions, outside and inside a quoted field, by any number of
workers at once; chaining the answers afterwards tells which one was true.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

from splarn.core.layout import Dialect
from splarn.core.records.bitmaps import Tally, judge
from splarn.core.records.chunks import skip_beginning
from splarn.core.records.scanning import scan
from splarn.core.source.codecs import read_blocks
from splarn.core.source.places import Place, expect_until, open_place
from splarn.core.work.disk import outside
from splarn.core.work.pool import Pool

BLOCK = 1 << 20
STRETCH = 64 << 20
FIND = 64 << 10
# Stretches for each worker at least, where there are so many points to cut at: with few, some
# workers would wait for the last ones.
SOME = 4


@dataclass(frozen=True)
class Counted:
    """What judging a range has told of it: its records, and the longest of those at the blocks'
    edges. Its bytes are those records and nothing else, the last newline included.
    """

    rows: int
    longest: int


@dataclass(frozen=True)
class Range:
    """Unpacked bytes `start` to `end` of a file; `end` is None up to its end.

    Of a columnar file they are rows. `packed` is what the range takes on disk. `counted` is there
    where the range was judged and holds no blank line.
    """

    start: int
    end: int | None
    packed: int
    counted: Counted | None = None


@dataclass(frozen=True)
class StretchTask:
    """Some neighbouring cut points of one file, to be judged together; picklable."""

    path: Place
    dialect: Dialect
    points: tuple[int, ...]


@dataclass(frozen=True)
class Judged:
    """What lies between two points, under one assumption of where it starts.

    `first_end` and `last_end` are offsets after the first and last record that ends there.
    """

    quoted: bool
    rows: int = 0
    first_end: int = 0
    last_end: int = 0
    length: int = 0
    longest: int = 0
    blank: bool = False


# For each of the two assumptions what lies after each point but the last; None where counting
# quotes does not tell.
States = tuple[tuple[Judged | None, ...], tuple[Judged | None, ...]]


@dataclass(frozen=True)
class StretchResult:
    """`points` moved to just after a newline, and what lies between them.

    `states[h]` is for a stretch that starts outside (0) or inside (1) a quoted field.
    """

    points: tuple[int, ...]
    states: States


def cut_ranges(path: Place, codec: str, dialect: Dialect, size: int, pool: Pool) -> list[Range]:
    """Ranges of about `size` unpacked bytes, each of whole records; one for a packed file.

    The first range starts at 0 and so holds the byte-order mark and the header.
    Raises OutsideError when the file cannot be read.
    """
    with outside(f"Reading {path}"):
        total = path.stat().st_size
    if codec != "none" or total <= size:
        return [Range(0, None, total)]
    cuts, counted = find_cuts(path, dialect, size, total, pool)
    edges = [0, *cuts, total]
    return [
        Range(start, end, end - start, known)
        for (start, end), known in zip(pairwise(edges), counted, strict=True)
        if end > start
    ]


def find_cuts(
    path: Place, dialect: Dialect, size: int, total: int, pool: Pool
) -> tuple[list[int], list[Counted | None]]:
    """Record starts at or just after each multiple of `size`, ascending, each once.

    Also what is known of the ranges before, between and after them.
    """
    wanted = [*range(size, total, size), total]
    # Each worker has some, also of a file that is not long.
    share = -(-len(wanted) // (SOME * pool.workers))
    per_task = max(min(STRETCH // size, share), 1)
    groups = [wanted[index : index + per_task] for index in range(0, len(wanted), per_task)]
    starts = [0, *(group[-1] for group in groups[:-1])]
    tasks = [
        StretchTask(path, dialect, (start, *group))
        for start, group in zip(starts, groups, strict=True)
    ]
    chain = _Chain(path, dialect, total)
    for result in pool.map(judge_stretch, tasks):
        states = list(result.states[int(chain.quoted)])
        for index, state in enumerate(states):
            begin, end = result.points[index], result.points[index + 1]
            told = chain.add(state, begin, end)
            if not told and index + 1 < len(states):
                # Later answers were chained on one that could not be told: judge them afresh.
                again = _judge(path, dialect, result.points[index + 1 :])
                states[index + 1 :] = again[int(chain.quoted)]
    return chain.cuts, chain.close()


class _Chain:
    """Follows the judgements from the file's start, and so knows which assumption was true."""

    def __init__(self, path: Place, dialect: Dialect, total: int) -> None:
        self.path = path
        self.dialect = dialect
        self.total = total
        self.cuts: list[int] = []
        self.quoted = False
        self._counted: list[Counted | None] = []
        # The range at work: what is known so far, or None, and records moved into it.
        self._known: list[Judged] | None = []
        self._moved = 0
        self._open = 0

    def add(self, state: Judged | None, begin: int, end: int) -> bool:
        """Takes one interval; whether its judgement could be told."""
        if state is None:
            self.quoted = _walk_on(self.path, self.dialect, begin, end, self.quoted)
            self._known = None
        else:
            self.quoted = state.quoted
            if self._known is not None:
                self._known.append(state)
        if end >= self.total:
            return state is not None
        cut = _next_start(self.path, self.dialect, end, self.total) if self.quoted else end
        if cut < self.total and (not self.cuts or cut > self.cuts[-1]):
            self._counted.append(self._finish(self.quoted))
            self.cuts.append(cut)
            # A record that reaches over the point ends in the range before it.
            self._known, self._moved, self._open = [], int(self.quoted), cut - end
        else:
            self._known = None
        return state is not None

    def close(self) -> list[Counted | None]:
        """What is known of each range, the last one included."""
        ends_well = not self.quoted and _ends_with_newline(self.path)
        return [*self._counted, self._finish(False) if ends_well else None]

    def _finish(self, moves: bool) -> Counted | None:
        known = self._known
        if known is None or any(state.blank for state in known):
            return None
        rows = sum(state.rows for state in known) - self._moved + int(moves)
        first = known[0].first_end if known else 0
        if self._moved and first != self._open:
            return None
        return Counted(rows, max((state.longest for state in known), default=0))


def _ends_with_newline(path: Place) -> bool:
    size = path.stat().st_size
    return next(read_blocks(path, "none", size - 1), b"") == b"\n"


def judge_stretch(task: StretchTask) -> StretchResult:
    """Judges one stretch under both assumptions."""
    with outside(f"Reading {task.path}"):
        points = tuple(_after_newline(task.path, point, task.dialect) for point in task.points)
    return StretchResult(points, _judge(task.path, task.dialect, points))


def _judge(path: Place, dialect: Dialect, points: tuple[int, ...]) -> States:
    states: tuple[list[Judged | None], list[Judged | None]] = ([], [])
    starts: list[bool | None] = [False, True]
    for begin, end in pairwise(points):
        now = [None if start is None else Judged(start) for start in starts]
        for block in line_views(path, begin, end):
            after = judge(block, dialect)
            now = [None if was is None else _joined(was, after, len(block)) for was in now]
        for start in (0, 1):
            states[start].append(now[start])
        starts = [None if was is None else was.quoted for was in now]
    return tuple(states[0]), tuple(states[1])


def _joined(was: Judged, after: tuple[Tally | None, Tally | None], length: int) -> Judged | None:
    """What is known of a stretch, with a block more."""
    told = after[int(was.quoted)]
    if told is None:
        return None
    total = was.length + length
    blank = was.blank or told.blank
    if not told.rows:
        return replace(was, quoted=told.quoted, length=total, blank=blank)
    over = was.length - was.last_end + told.first_end
    return Judged(
        told.quoted,
        was.rows + told.rows,
        was.first_end or was.length + told.first_end,
        was.length + told.last_end,
        total,
        max(was.longest, over),
        blank,
    )


def _after_newline(path: Place, point: int, dialect: Dialect) -> int:
    """The byte after the first newline at or after `point`; 0 is moved to where the header is."""
    if point == 0:
        length, _, blocks = skip_beginning(read_blocks(path, "none", block=FIND), dialect)
        del blocks
        return length
    # No line carries more than is looked at.
    while block := b"".join(read_blocks(path, "none", point, point + FIND)):
        at = block.find(b"\n")
        if at >= 0:
            return point + at + 1
        point += len(block)
    return point


def aligned_stretch(path: Place, start: int, size: int) -> bytes:
    """So many bytes from the first newline at or after `start` on.

    Raises OutsideError when the file cannot be read.
    """
    data = b"".join(read_blocks(path, "none", start, start + size))
    return data[data.find(b"\n") + 1 :]


def _whole_lines(path: Place, start: int, end: int | None, size: int = BLOCK) -> Iterator[bytes]:
    pending = b""
    for block in read_blocks(path, "none", start, end, size):
        data = pending + block if pending else block
        cut = data.rfind(b"\n") + 1
        pending = data[cut:]
        if cut:
            yield data[:cut]
    if pending:
        yield pending


def line_views(path: Place, start: int, end: int) -> Iterator[memoryview]:
    """Blocks of whole lines without a copy; each is good until the next one is asked for."""
    held = 0
    buffer = bytearray(BLOCK + FIND)
    with outside(f"Reading {path}"), open_place(path) as file:
        file.seek(start)
        expect_until(file, end)
        left = end - start
        while left:
            with memoryview(buffer) as view:
                taken = _read_into(file, view[held : held + left])
                if not taken:
                    break
                left -= taken
                total = held + taken
                cut = buffer.rfind(b"\n", 0, total) + 1
                if cut:
                    yield view[:cut]
            held = total - cut
            buffer[:held] = buffer[cut:total]
            if held > len(buffer) // 2:
                buffer.extend(bytes(len(buffer)))
        if held:
            yield memoryview(bytes(buffer[:held]))


def _read_into(file: Any, view: memoryview) -> int:
    with view:
        return int(file.readinto(view) or 0)


def _walk_on(path: Place, dialect: Dialect, start: int, end: int, quoted: bool) -> bool:
    for block in _whole_lines(path, start, end):
        quoted = scan(block, dialect, quoted).quoted
    return quoted


def _next_start(path: Place, dialect: Dialect, start: int, total: int) -> int:
    """The first record start after `start`, which is inside a quoted field."""
    position, quoted = start, True
    # Its end is near: what lies behind it is not asked for.
    for block in _whole_lines(path, start, None, FIND):
        scanned = scan(block, dialect, quoted)
        if len(scanned.ends):
            return position + int(scanned.ends[0])
        position, quoted = position + len(block), scanned.quoted
    return total

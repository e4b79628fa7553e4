"""Ranges: a file cut at record boundaries without reading it in one piece.

Whether a newline ends a record depends on every quote before it. Each stretch of the file is
therefore judged under both assumptions, outside and inside a quoted field, by any number of
workers at once; chaining the answers afterwards tells which one was true.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from splarn.core.bitmaps import quoted_after
from splarn.core.codecs import read_blocks
from splarn.core.files import outside
from splarn.core.layout import Dialect
from splarn.core.places import Place
from splarn.core.pool import Pool
from splarn.core.records import BOM, scan

BLOCK = 1 << 20
STRETCH = 64 << 20
FIND = 64 << 10


@dataclass(frozen=True)
class Range:
    """Unpacked bytes `start` to `end` of a file; `end` is None up to its end.

    Of a columnar file they are rows. `packed` is what the range takes on disk.
    """

    start: int
    end: int | None
    packed: int


@dataclass(frozen=True)
class StretchTask:
    """Some neighbouring cut points of one file, to be judged together; picklable."""

    path: Place
    dialect: Dialect
    points: tuple[int, ...]


States = tuple[tuple[bool | None, ...], tuple[bool | None, ...]]


@dataclass(frozen=True)
class StretchResult:
    """`points` moved to just after a newline, and the state at each but the first.

    `states[h]` holds, for the stretch starting outside (0) or inside (1) a quoted field, whether
    each later point is inside one; None where that cannot be told by counting quotes.
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
    cuts = [0, *find_cuts(path, dialect, size, total, pool), total]
    return [Range(a, b, b - a) for a, b in pairwise(cuts) if b > a]


def find_cuts(path: Place, dialect: Dialect, size: int, total: int, pool: Pool) -> list[int]:
    """Record starts at or just after each multiple of `size`, ascending, each once."""
    wanted = list(range(size, total, size))
    per_task = max(STRETCH // size, 1)
    groups = [wanted[index : index + per_task] for index in range(0, len(wanted), per_task)]
    starts = [0, *(group[-1] for group in groups[:-1])]
    tasks = [
        StretchTask(path, dialect, (start, *group))
        for start, group in zip(starts, groups, strict=True)
    ]
    cuts: list[int] = []
    quoted = False
    for result in pool.map(judge_stretch, tasks):
        states = list(result.states[int(quoted)])
        for index, state in enumerate(states):
            begin, end = result.points[index], result.points[index + 1]
            if state is None:
                state = _walk_on(path, dialect, begin, end, quoted)
            quoted = state
            cut = _next_start(path, dialect, end, total) if quoted else end
            if cut < total and (not cuts or cut > cuts[-1]):
                cuts.append(cut)
            if states[index] is None and index + 1 < len(states):
                # Later answers were chained on one that could not be told: judge them afresh.
                again = _judge(path, dialect, result.points[index + 1 :])
                states[index + 1 :] = again[int(quoted)]
    return cuts


def judge_stretch(task: StretchTask) -> StretchResult:
    """Judges one stretch under both assumptions."""
    with outside(f"Reading {task.path}"):
        points = tuple(_after_newline(task.path, point) for point in task.points)
    return StretchResult(points, _judge(task.path, task.dialect, points))


def _judge(path: Place, dialect: Dialect, points: tuple[int, ...]) -> States:
    states: tuple[list[bool | None], list[bool | None]] = ([], [])
    now: list[bool | None] = [False, True]
    for begin, end in pairwise(points):
        for block in _whole_lines(path, begin, end):
            after = quoted_after(block, dialect)
            now = [None if was is None else after[int(was)] for was in now]
        for start in (0, 1):
            states[start].append(now[start])
    return tuple(states[0]), tuple(states[1])


def _after_newline(path: Place, point: int) -> int:
    """The byte after the first newline at or after `point`; 0 is moved past a byte-order mark."""
    if point == 0:
        head = next(read_blocks(path, "none", 0, len(BOM)), b"")
        return len(BOM) if head == BOM else 0
    for block in read_blocks(path, "none", point, block=FIND):
        found = block.find(b"\n")
        if found >= 0:
            return point + found + 1
        point += len(block)
    return point


def aligned_stretch(path: Place, start: int, size: int) -> bytes:
    """So many bytes from the first newline at or after `start` on.

    Raises OutsideError when the file cannot be read.
    """
    data = b"".join(read_blocks(path, "none", start, start + size))
    return data[data.find(b"\n") + 1 :]


def _whole_lines(path: Place, start: int, end: int) -> Iterator[bytes]:
    pending = b""
    for block in read_blocks(path, "none", start, end, BLOCK):
        data = pending + block if pending else block
        cut = data.rfind(b"\n") + 1
        pending = data[cut:]
        if cut:
            yield data[:cut]
    if pending:
        yield pending


def _walk_on(path: Place, dialect: Dialect, start: int, end: int, quoted: bool) -> bool:
    for block in _whole_lines(path, start, end):
        quoted = scan(block, dialect, quoted).quoted
    return quoted


def _next_start(path: Place, dialect: Dialect, start: int, total: int) -> int:
    """The first record start after `start`, which is inside a quoted field."""
    position, quoted = start, True
    for block in _whole_lines(path, start, total):
        found = scan(block, dialect, quoted)
        if len(found.ends):
            return position + int(found.ends[0])
        position, quoted = position + len(block), found.quoted
    return total

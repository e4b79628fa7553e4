"""How the rows of a whole delivery come to lie in row groups and files, foreseen from a look at it.

What a load does is gone through in small: rows are held until they are enough, kept apart by
partition, put in order and written as groups, which fill files.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.lake.partitions import groups as partitions
from splarn.core.lake.partitions import plain, transformed
from splarn.core.lake.writing import (
    HELD_BYTES,
    LARGE_SHARE,
    MOST_PARTITIONS,
    WAITING_BYTES,
    too_many,
)
from splarn.core.layout.file_layout import FileLayout, PartitionField
from splarn.core.scans.asked import Keys
from splarn.core.scans.look import Look

# So many times a load writes what it holds, and so many groups of one writing, are gone through;
# of more each stands for several.
MOST_WRITINGS = 240
MOST_GROUPS = 400
MOST_PARTS = 240
# More partitions in all are not merged in small; a load has its own limit.
MERGED_PARTITIONS = 10 * MOST_PARTITIONS
# Of so many rows at least the extremes of a group are taken, where it has them: of fewer they would
# lie too close to one another.
EXTREMES_OF = 256
# A column with no more different values than this share of its rows goes by steps.
FEW_VALUES = 0.25


@dataclass(frozen=True)
class Groups:
    """Row groups, each standing for `times` alike, in the order in which they are written.

    `writing` numbers what was written at a time, `part` the part, and `partition` the partition,
    whose values are in `values`. `extremes` are least and largest values by column, shape
    (groups, 2). `base` is for how many parts alike each stands, `whole` says that all rows were
    seen, so that these are the extremes indeed.
    """

    rows: Any
    times: Any
    writing: Any
    part: Any
    partition: Any
    values: tuple[tuple[Any, ...], ...]
    extremes: dict[str, Any]
    base: float
    whole: bool

    @property
    def rows_at_once(self) -> int:
        """The most rows that are written at a time."""
        return round(float(np.bincount(self.writing, weights=self.rows).max()))


@dataclass
class _Made:
    rows: list[float]
    times: list[float]
    writing: list[int]
    part: list[int]
    partition: list[int]
    extremes: dict[str, list[tuple[float, float]]]
    number: int = 0


@dataclass(frozen=True)
class _Where:
    """Of what writing (a group by itself, if None), part and partition rows are, and how often."""

    writing: int | None
    part: int
    partition: int
    times: float


def as_loaded(look: Look, keys: Keys, layout: FileLayout, part_bytes: int | None = None) -> Groups:
    """The groups that a load leaves of a delivery, which has files of its own for each part.

    Parts are the files as they came, or pieces of these of `part_bytes` unpacked bytes.
    Raises RequestError where rows that are held at a time make far too many partitions.
    """
    codes, values = _codes(look, layout)
    made = _Made([], [], [], [], [], {name: [] for name in keys.values})
    held = HELD_BYTES / max(look.row_bytes, 1e-9)
    if not layout.partition:
        held = min(held, layout.group_rows)
    together = replace(layout, group_rows=max(int(min(held, layout.group_rows)), 1))
    few = together.group_rows * LARGE_SHARE if layout.partition else 0.0
    parts = _parts(look, part_bytes)
    each = max(len(parts) / MOST_PARTS, 1.0)
    for number in range(round(len(parts) / each)):
        low, high = parts[int(number * each)]
        first, last = np.searchsorted(look.at, (low, high))
        mine = float(look.weight[first:last].sum()) or look.rows * (high - low)
        waiting: dict[int, _Waiting] = {}
        for start, times, count in _writings(mine, held):
            share = (high - low) / mine
            seen = _between(look.at, low + share * start, low + share * (start + count), count)
            made.number += 1
            if len(np.unique(codes[seen])) > MOST_PARTITIONS:
                raise too_many(layout, MOST_PARTITIONS)
            each_row = count / look.weight[seen].sum()
            for code, some in _by_partition(seen, codes):
                rows = each_row * look.weight[some].sum()
                if rows < few:
                    waiting.setdefault(code, _Waiting()).add(some, rows * times)
                else:
                    where = _Where(made.number, number, code, times * each)
                    _put(made, look, keys, layout, some, rows, where)
        made.number += 1
        _put_waiting(made, look, keys, together, waiting, number, each)
    return _groups(made, values, each, look.whole)


class _Waiting:
    """Rows of a partition that come few at a time and are written together."""

    def __init__(self) -> None:
        self.some: list[Any] = []
        self.rows = 0.0

    def add(self, some: Any, rows: float) -> None:
        self.some.append(some)
        self.rows += rows


def _put_waiting(
    made: _Made, look: Look, keys: Keys, layout: FileLayout, waiting: dict[int, _Waiting],
    part: int, each: float,
) -> None:  # fmt: skip
    """The groups of rows that waited for the end of a part, or until they were too many to wait."""
    total = sum(one.rows for one in waiting.values()) * look.row_bytes
    rounds = max(np.ceil(total / WAITING_BYTES), 1.0)
    for code, one in waiting.items():
        some, rows = np.concatenate(one.some), one.rows / rounds
        # They are in order group by group.
        shares = max(int(-(-rows // layout.group_rows)), 1) if layout.sort else 1
        for share in np.array_split(some, min(shares, len(some))):
            where = _Where(made.number, part, code, each * rounds)
            _put(made, look, keys, layout, share, rows * len(share) / len(some), where)


def _parts(look: Look, part_bytes: int | None) -> list[tuple[float, float]]:
    found = []
    for low, high in look.files:
        count = 1 if part_bytes is None else max(-(-(high - low) * look.bytes // part_bytes), 1)
        ends = np.linspace(low, high, int(count) + 1).tolist()
        found += list(pairwise(ends))
    return found


def _writings(rows: float, held: float) -> Iterator[tuple[float, float, float]]:
    """What is written of a part at a time: its first row, how many alike, and the rows of each."""
    whole = int(rows // held)
    # Neighbouring writings are alike where there are many.
    step = max(whole / MOST_WRITINGS, 1.0)
    for number in range(round(whole / step)):
        yield number * step * held, step, held
    if (rest := rows - whole * held) >= 1 or not whole:
        yield whole * held, 1.0, rest if whole else rows


def as_compacted(look: Look, keys: Keys, layout: FileLayout) -> Groups:
    """The groups that merging all files of each partition in order leaves."""
    codes, values = _codes(look, layout)
    made = _Made([], [], [], [], [], {name: [] for name in keys.values})
    every = np.arange(len(look.at))
    if len(values) > MERGED_PARTITIONS:
        raise too_many(layout, MERGED_PARTITIONS)
    for code, some in _by_partition(every, codes):
        count = look.rows * look.weight[some].sum() / look.weight.sum()
        _put(made, look, keys, layout, some, count, _Where(None, 0, code, 1.0))
    return _groups(made, values, 1.0, look.whole)


def _codes(look: Look, layout: FileLayout) -> tuple[Any, tuple[tuple[Any, ...], ...]]:
    """The partition of each row that was seen, and the partitions' values."""
    codes = np.zeros(len(look.at), dtype=np.int64)
    values = []
    for number, group in enumerate(partitions(look.seen, layout.partition)):
        codes[slice(None) if group.rows is None else group.rows] = number
        values.append(group.values)
    return codes, tuple(values)


def _between(at: Any, low: float, high: float, count: float) -> Any:
    """The rows that were seen of a stretch of `count` rows; where too few were, the nearest too."""
    first, last = np.searchsorted(at, (low, high))
    if last - first < min(EXTREMES_OF, int(count), len(at)):
        middle = int(np.searchsorted(at, (low + high) / 2))
        # Those of one place are next to one another, so the nearest are of the nearest place.
        first = min(first, max(middle - EXTREMES_OF // 2, 0))
        last = max(last, min(first + EXTREMES_OF, len(at)))
    last = max(last, first + 1)
    return np.arange(first, last)


def _by_partition(seen: Any, codes: Any) -> Iterator[tuple[int, Any]]:
    here = codes[seen]
    order = np.argsort(here, kind="stable")
    for some in np.split(order, np.flatnonzero(np.diff(here[order])) + 1):
        yield int(here[some[0]]), seen[some]


def _put(
    made: _Made, look: Look, keys: Keys, layout: FileLayout, some: Any, count: float, where: _Where
) -> None:
    """The groups of rows of one partition that are written at a time."""
    times = where.times
    if count < 1:
        # Less than a row stands for one now and then.
        count, times = 1.0, times * count
    if layout.sort:
        order = [np.nan_to_num(keys.values[name][some], nan=np.inf) for name in layout.sort]
        some = some[np.lexsort((np.arange(len(some)), *reversed(order)))]
    ends = np.cumsum(look.weight[some])
    ends = ends / ends[-1]
    full = int(count // layout.group_rows)
    step = max(full / MOST_GROUPS, 1.0)
    cuts = [
        (number * step * layout.group_rows, float(layout.group_rows), step)
        for number in range(round(full / step))
    ]
    if (rest := count - full * layout.group_rows) >= 1 or not cuts:
        cuts.append((full * layout.group_rows, rest, 1.0))
    for first, rows, each in cuts:
        low, high = first / count, (first + rows) / count
        made.rows.append(rows)
        made.times.append(times * each)
        made.writing.append(-len(made.rows) if where.writing is None else where.writing)
        made.part.append(where.part)
        made.partition.append(where.partition)
        for name, values in keys.values.items():
            leads = bool(layout.sort) and name == layout.sort[0]
            found = _extremes(values[some], ends, low, high, rows, leads)
            made.extremes[name].append(found)


def _extremes(
    values: Any, ends: Any, low: float, high: float, rows: float, leads: bool
) -> tuple[float, float]:
    """The least and the largest value of rows between two shares of all, in their order."""
    first = min(int(np.searchsorted(ends, low, side="right")), len(ends) - 1)
    last = max(min(int(np.searchsorted(ends, high, side="left")), len(ends) - 1), first)
    if leads and not np.isnan(values[[0, -1]]).any():
        if len(np.unique(values)) > FEW_VALUES * len(values):
            return float(np.interp(low, ends, values)), float(np.interp(high, ends, values))
        return float(values[first]), float(values[last])
    short = int(min(rows, EXTREMES_OF)) - (last - first + 1)
    if short > 0 and not leads:
        first, last = max(first - short // 2, 0), min(last + (short + 1) // 2, len(ends) - 1)
    here = values[first : last + 1]
    here = here[~np.isnan(here)]
    return (float(here.min()), float(here.max())) if len(here) else (np.inf, -np.inf)


def _groups(made: _Made, values: tuple[tuple[Any, ...], ...], base: float, whole: bool) -> Groups:
    extremes = {name: np.array(found).reshape(-1, 2) for name, found in made.extremes.items()}
    return Groups(
        np.array(made.rows), np.array(made.times), np.array(made.writing), np.array(made.part),
        np.array(made.partition), values, extremes, base, whole,
    )  # fmt: skip


def partition_value(value: float | str, kind: Any, field: PartitionField) -> Any:
    """What a partition field makes of a value of its column, which is given as a number or text."""
    if isinstance(value, str):
        column = pa.array([value], kind)
    elif pa.types.is_date32(kind):
        column = pa.array([int(value)], pa.int32()).cast(kind)
    elif pa.types.is_decimal(kind) or pa.types.is_floating(kind):
        column = pa.array([value], pa.float64()).cast(kind)
    else:
        column = pa.array([int(value)], pa.int64()).cast(kind)
    return plain(transformed(column, field)[0])

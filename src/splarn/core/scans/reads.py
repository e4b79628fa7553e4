"""What a question reads of row groups in files: bytes and requests, as readers go about it.

A reader learns from the table's metadata which files may have rows that fit, fetches the end of
each of these, and from its footer which groups may; of those it fetches the chunks of its columns,
neighbouring ones at once.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from splarn.core.layout.file_layout import FileLayout, PartitionField
from splarn.core.scans.asked import Wanted
from splarn.core.scans.cutting import Groups, partition_value
from splarn.core.scans.written import FOOTER_END, HOLE_BYTES, MARK, TAIL_BYTES, Written


@dataclass(frozen=True)
class Files:
    """Groups in files: `sizes` of each column's chunks, shape (groups, columns), `file` the number
    of each group's file. A file stands for `times` alike, and is of `bytes`, `footer` its own."""

    groups: Groups
    sizes: Any
    file: Any
    times: Any
    bytes: Any
    footer: Any

    @cached_property
    def starts(self) -> Any:
        """Where in its file each group begins, in bytes."""
        each = self.sizes.sum(axis=1)
        order = np.argsort(self.file, kind="stable")
        before = np.cumsum(each[order]) - each[order]
        firsts = np.searchsorted(self.file[order], np.arange(len(self.times)))
        starts = np.empty(len(each))
        starts[order] = before - before[np.minimum(firsts, len(each) - 1)][self.file[order]]
        return starts

    @property
    def count(self) -> float:
        """How many files there are."""
        return float(self.times.sum())

    @property
    def total(self) -> float:
        """The bytes of all of them."""
        return float((self.times * self.bytes).sum())


@dataclass(frozen=True)
class Read:
    """What a question reads, once."""

    bytes: float
    requests: float
    files: float
    groups: float
    rows: float

    def __add__(self, other: Read) -> Read:
        return Read(*(a + b for a, b in zip(_figures(self), _figures(other), strict=True)))

    def times(self, by: float) -> Read:
        """So many times as much."""
        return Read(*(one * by for one in _figures(self)))


def _figures(one: Read) -> tuple[float, ...]:
    return one.bytes, one.requests, one.files, one.groups, one.rows


NOTHING = Read(0.0, 0.0, 0.0, 0.0, 0.0)


def into_files(groups: Groups, written: Written, layout: FileLayout) -> Files:
    """Puts groups into files, as they are written: a file that is large enough takes no more.

    Whether it is, is looked at before each writing.
    """
    sizes = written.sizes.bytes(groups.rows)
    each = sizes.sum(axis=1)
    both = np.stack((groups.partition, groups.writing))
    units = np.unique(both, axis=1, return_inverse=True)[1].ravel()
    unit_bytes = np.bincount(units, weights=each)
    file = np.zeros(len(each), dtype=int)
    # By partition the number of the file that is open, and what was written last.
    opened: dict[tuple[int, int], tuple[int, int]] = {}
    bytes_of: list[float] = []
    groups_of: list[float] = []
    times_of: list[float] = []
    keys = zip(groups.part.tolist(), groups.partition.tolist(), strict=True)
    for place, key in enumerate(keys):
        writing, times = int(groups.writing[place]), float(groups.times[place])
        at, last = opened.get(key, (-1, -1))
        if at < 0 or (last != writing and bytes_of[at] >= layout.file_bytes):
            at = len(bytes_of)
            bytes_of.append(0.0)
            groups_of.append(0.0)
            # Writings that stand for many go on in the same file, until they fill several.
            unit = float(unit_bytes[units[place]])
            fill = max(np.ceil(layout.file_bytes / max(unit, 1.0)), 1.0)
            times_of.append(max(times / fill, min(times, groups.base)))
        opened[key] = at, writing
        alike = times / times_of[at]
        bytes_of[at] += each[place] * alike
        groups_of[at] += alike
        file[place] = at
    footers = written.footer + written.footer_group * np.array(groups_of)
    whole = np.array(bytes_of) + footers + FOOTER_END + len(MARK)
    return Files(groups, sizes, file, np.array(times_of), whole, footers)


def read_of(
    files: Files, wanted: Wanted, names: Sequence[str], partition: Sequence[PartitionField],
    kinds: Mapping[str, Any],
) -> Read:  # fmt: skip
    """What a question reads of files, whose columns have these `names` and Arrow types."""
    groups = files.groups
    may = np.ones(len(groups.rows), dtype=bool)
    for place, field in enumerate(partition):
        if field.column in wanted.exact:
            value = partition_value(wanted.exact[field.column], kinds[field.column], field)
            fits = np.array([values[place] == value for values in groups.values])
            may &= fits[groups.partition]
    inside = may.copy()
    file_may = np.zeros(len(files.times), dtype=bool)
    np.logical_or.at(file_may, files.file, may)
    for name, (low, high) in wanted.ranges.items():
        least, most = groups.extremes[name].T
        fits = _overlap(least, most, low, high, groups.whole)
        inside &= fits
        file_least, file_most = np.full((2, len(files.times)), np.inf)
        np.minimum.at(file_least, files.file, least)
        np.minimum.at(file_most, files.file, -most)
        of_file = (file_least <= high) & (-file_most >= low)
        np.logical_or.at(of_file, files.file, fits)
        file_may &= of_file
    tails = np.where(
        files.footer + FOOTER_END > TAIL_BYTES, TAIL_BYTES + files.footer,
        np.minimum(files.bytes, TAIL_BYTES),
    )  # fmt: skip
    places = sorted(names.index(name) for name in wanted.columns)
    fetched, requests = _chunks(files, np.flatnonzero(inside), places)
    times = groups.times[inside]
    opened = files.times[file_may]
    more = (files.footer[file_may] + FOOTER_END > TAIL_BYTES).sum()
    return Read(
        float((tails[file_may] * opened).sum() + (fetched * times).sum()),
        float(opened.sum() + more + (requests * times).sum()),
        float(opened.sum()), float(times.sum()), float((groups.rows[inside] * times).sum()),
    )  # fmt: skip


def _overlap(least: Any, most: Any, low: float, high: float, whole: bool) -> Any:
    """Which groups may have values between two."""
    fits = (least <= high) & (most >= low)
    if whole or fits.any() or high < least.min() or low > most.max():
        return fits
    # Values between those of two groups were only not seen: one of these has them.
    away = np.maximum(least - high, low - most)
    fits[int(away.argmin())] = True
    return fits


def _chunks(files: Files, chosen: Any, places: Sequence[int]) -> tuple[Any, Any]:
    """Bytes and requests for some columns of each chosen group; small gaps are read through."""
    sizes = files.sizes[chosen]
    fetched = sizes[:, places].sum(axis=1)
    requests = np.ones(len(sizes))
    for before, place in pairwise(places):
        gap = sizes[:, before + 1 : place].sum(axis=1)
        through = gap <= HOLE_BYTES
        fetched += np.where(through, gap, 0)
        requests += ~through
    # Also those between the last of one group and the first of the next in a file.
    order = np.argsort(files.file[chosen], kind="stable")
    starts = files.starts[chosen][order]
    firsts = starts + sizes[order][:, : places[0]].sum(axis=1)
    ends = starts + sizes[order][:, : places[-1] + 1].sum(axis=1)
    same = np.diff(files.file[chosen][order]) == 0
    gaps = firsts[1:] - ends[:-1]
    through = same & (gaps <= HOLE_BYTES)
    fetched[order[1:][through]] += gaps[through]
    requests[order[1:][through]] -= 1
    return fetched, requests

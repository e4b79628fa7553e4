"""A look at a delivery: in many places what its rows hold, and in some all of them."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.errors import RequestError
from splarn.core.lake.columns import LakeColumn, columns_of, stored
from splarn.core.layout import Layout
from splarn.core.reading import cut_file, read_parsed
from splarn.core.source.codecs import read_blocks
from splarn.core.source.source import Source
from splarn.core.survey import survey
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent

# How much is read in all: a delivery that is no larger is read whole.
LOOK_BYTES = 128 << 20
# Up to such a share of it, and so many bytes, are rows next to one another, as a load holds them;
# the rest is from all over, from so many places at most. Where the former begin in the delivery.
TOGETHER, TOGETHER_BYTES = 0.5, 20 << 20
MOST_PLACES = 512
RUN_AT = 0.4
# What is read at one place.
PLACE_BYTES = 64 << 10
# Into so many pieces sources are cut to find the places, if they are not too small for that. Of
# columns a whole group of rows is read for each.
MOST_PIECES = 4096
GROUPS_READ = 32
# Of so many packed files at most the beginnings are looked at.
PACKED_FILES = 64


@dataclass(frozen=True)
class Look:
    """What was seen of a delivery of about so many `rows` and unpacked `bytes`.

    `seen` has the columns that were asked for of rows from all over, in their order; `at` is where
    the rows lie that each stands for, 0 at the beginning and 1 at the end, and `weight` how many
    these are. `files` are the places where each file begins and ends. `windows` are rows next to
    one another with all columns, as files of a lake have them, `read` the unpacked bytes of all
    that was read, which took so many `seconds` a row. `whole` says that nothing was left out,
    `heads` that of packed files only the beginnings were seen.
    """

    seen: Any
    at: Any
    weight: Any
    files: tuple[tuple[float, float], ...]
    windows: tuple[Any, ...]
    columns: tuple[LakeColumn, ...]
    rows: float
    bytes: float
    read: float
    seconds: float
    whole: bool
    heads: bool

    @property
    def row_bytes(self) -> float:
        """The memory that a row takes."""
        held = sum(one.nbytes for one in self.windows)
        return float(held / max(sum(len(one) for one in self.windows), 1))


@dataclass(frozen=True)
class _Stretch:
    """A range of a source, where it begins and ends of all, and how much of it is read at most.

    `file` is where its file begins and ends.
    """

    source: Source
    start: int
    end: int | None
    low: float
    high: float
    file: tuple[float, float]
    most: float = float("inf")
    together: bool = False


def take_look(
    sources: Sequence[Source],
    layout: Layout,
    names: Sequence[str],
    pool: Pool,
    size: int = LOOK_BYTES,
    progress: Progress | None = None,
) -> Look:
    """Reads about `size` unpacked bytes of a delivery; of what is seen all over keeps `names`.

    Raises RequestError where no row is good, OutsideError where a file cannot be read.
    """
    watch = progress or Silent()
    packed = layout.format != "parquet" and any(one.codec != "none" for one in sources)
    if packed:
        places = _heads(sources, size)
        whole = len(places) == len(sources)
    else:
        piece = max(sum(source.size for source in sources) // MOST_PIECES, PLACE_BYTES)
        places = _cut(sources, layout, piece, pool)
        whole = len(places) * piece <= size + piece * len(sources)
        places = (
            [replace(one, together=True) for one in places] if whole else _some(places, piece, size)
        )
    columns = columns_of(layout.fields, 1)
    seen, windows = _Seen(names), _Windows(min(size * TOGETHER, TOGETHER_BYTES))
    watch.start("look", len(places), "places")
    last: _Stretch | None = None
    seconds = rows_together = 0.0
    for one in places:
        read, rows_before, begun = 0, seen.rows, time.perf_counter()
        if last is not None and one.together and last.high < one.low:
            windows.end()
        for rows, text in _rows(one, layout, columns):
            read += text
            seen.put(rows, text)
            if one.together:
                windows.put(rows)
        seen.end(one)
        if one.together:
            # Elsewhere so little is read at once that beginning takes most of the time.
            seconds += time.perf_counter() - begun
            rows_together += seen.rows - rows_before
        last = one if one.together else last
        whole &= read < one.most
        watch.advance(1)
    windows.end()
    watch.finish()
    if not seen.rows or not windows.done:
        raise RequestError(
            "No row of the delivery reads well by the layout, so nothing can be tried with it: "
            "`splarn check` says why."
        )
    rows_all = _count(sources, layout, seen, whole)
    return Look(
        *seen.in_order(rows_all), _files(sources), tuple(windows.done), columns, rows_all,
        rows_all * seen.text / seen.rows, seen.text, seconds / max(rows_together, 1), whole,
        packed and not whole,
    )  # fmt: skip


def _files(sources: Sequence[Source]) -> tuple[tuple[float, float], ...]:
    ends = np.cumsum([0, *(one.size for one in sources)]) / max(sum(one.size for one in sources), 1)
    return tuple(pairwise(ends.tolist()))


def _cut(sources: Sequence[Source], layout: Layout, size: int, pool: Pool) -> list[_Stretch]:
    """All of the sources, in pieces of about a size."""
    found = []
    for source, file in zip(sources, _files(sources), strict=True):
        first, last = file
        cuts = cut_file(source, layout, size, pool)
        # Of columnar files these are rows, of text bytes.
        span = max([one.end or source.size for one in cuts], default=1) or 1
        for one in cuts:
            ends = (one.start, one.end or span)
            low, high = (first + (last - first) * min(end / span, 1) for end in ends)
            found.append(_Stretch(source, one.start, one.end, low, high, file))
    return found


def _some(places: list[_Stretch], piece: int, size: int) -> list[_Stretch]:
    """Little of pieces from all over, and at one place as much as a load holds at a time."""
    length = min(int(size * TOGETHER), TOGETHER_BYTES)
    first = int(len(places) * RUN_AT)
    runs = set(range(first, min(first + max(length // piece, 1), len(places))))
    count = min(max(int(size * (1 - TOGETHER)) // PLACE_BYTES, 2), MOST_PLACES)
    if places[0].source.format == "parquet":
        count = min(count, GROUPS_READ)
    step = max((len(places) - 1) / (count - 1), 1.0)
    chosen = sorted({min(round(number * step), len(places) - 1) for number in range(count)} | runs)
    found = []
    for number in chosen:
        one = places[number]
        if number in runs:
            found.append(replace(one, together=True))
            continue
        high = one.low + (one.high - one.low) * min(PLACE_BYTES / piece, 1.0)
        found.append(replace(one, high=high, most=PLACE_BYTES))
    return found


def _heads(sources: Sequence[Source], size: int) -> list[_Stretch]:
    """The beginnings of packed files, or of some of many."""
    count = min(len(sources), PACKED_FILES)
    chosen = [number * len(sources) // count for number in range(count)]
    places = _files(sources)
    return [
        _Stretch(sources[number], 0, None, *places[number], places[number], size / count, True)
        for number in chosen
    ]  # fmt: skip


def _rows(
    one: _Stretch, layout: Layout, columns: Sequence[LakeColumn]
) -> Iterator[tuple[Any, int]]:
    """Good rows of a stretch as files have them, and the bytes that were read for them."""
    short = not one.together and layout.format != "parquet"
    read = 0

    def beginning(place: Any, codec: str, start: int, end: int | None) -> Iterator[bytes]:
        most = start + int(one.most)
        return read_blocks(place, codec, start, most if end is None else min(end, most))

    read_by = beginning if short else read_blocks
    codec = one.source.codec
    for parsed in read_parsed(one.source.place, codec, layout, one.start, one.end, read=read_by):
        rows, size = parsed.table, parsed.size
        if short and len(parsed.good) and parsed.good[-1] == parsed.rows - 1:
            # The last record is cut off where reading ended.
            rows = rows.slice(0, len(rows) - 1)
            size = size * len(rows) // parsed.rows
        read += parsed.size
        yield stored(rows, columns), size
        if read >= one.most:
            return


class _Windows:
    """Rows next to one another, in pieces as large as a load holds before it writes."""

    def __init__(self, most: float) -> None:
        self.done: list[Any] = []
        self._held: list[Any] = []
        self._bytes, self._left = 0, most

    def put(self, rows: Any) -> None:
        if self._left <= 0 or not len(rows):
            return
        self._held.append(rows)
        self._bytes += rows.nbytes
        if self._bytes >= self._left:
            self.end()

    def end(self) -> None:
        """What is held is a window."""
        if self._held:
            # A copy lets go of the text that columns were cut out of.
            self.done.append(pa.concat_tables(self._held).combine_chunks())
        self._left -= self._bytes
        self._held, self._bytes = [], 0


class _Seen:
    """Some columns of rows, by the places where they were seen."""

    def __init__(self, names: Sequence[str]) -> None:
        self._names = list(dict.fromkeys(names))
        self._tables: list[Any] = []
        self._places: list[tuple[_Stretch, int, int]] = []
        self.text = self.rows = 0
        self._before = (0, 0)

    def put(self, rows: Any, text: int) -> None:
        # A table without columns would not know how many rows it has.
        self._tables.append(rows.select(self._names or rows.column_names[:1]))
        self.text += text
        self.rows += len(rows)

    def end(self, place: _Stretch) -> None:
        """What was put since the last place is of this one."""
        if self.rows > self._before[0]:
            rows, text = self.rows - self._before[0], self.text - self._before[1]
            self._places.append((place, rows, text))
        self._before = self.rows, self.text

    def cells(self) -> list[tuple[float, float]]:
        """What each place stands for: what is nearer to it than to others, of its own file first.

        Places are in order.
        """
        ends = [0.0]
        for (one, _, _), (two, _, _) in pairwise(self._places):
            middle = (one.high + two.low) / 2
            if one.file != two.file:
                middle = min(max(middle, one.file[1]), two.file[0])
            ends.append(middle)
        return list(pairwise([*ends, 1.0]))

    def estimate(self, size: float) -> float:
        """How many rows so many bytes are, each place by the bytes of its own rows."""
        told = zip(self.cells(), self._places, strict=True)
        return sum((high - low) * size * rows / text for (low, high), (_, rows, text) in told)

    def in_order(self, rows: float) -> tuple[Any, Any, Any]:
        """The rows, where those lie that each stands for, and how many these are of all `rows`."""
        at, weight = [], []
        for (low, high), (_, count, _) in zip(self.cells(), self._places, strict=True):
            at.append(low + (high - low) * (np.arange(count) + 0.5) / count)
            weight.append(np.full(count, (high - low) / count))
        weights = np.concatenate(weight)
        table = pa.concat_tables(self._tables).combine_chunks()
        return table, np.concatenate(at), weights * rows / weights.sum()


def _count(sources: Sequence[Source], layout: Layout, seen: _Seen, whole: bool) -> float:
    """About how many rows there are in all."""
    if whole:
        return float(seen.rows)
    if layout.format != "parquet" and all(source.codec == "none" for source in sources):
        return seen.estimate(sum(source.size for source in sources))
    catalogue = survey([source.place for source in sources])
    if catalogue.rows is None:
        raise RequestError("A source file is damaged, so its volume is not known: survey it.")
    return float(catalogue.rows)

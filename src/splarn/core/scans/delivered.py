"""Files of columns as they were delivered: the row groups that their own footers tell of."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import ExitStack
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.lake.partitions import Value
from splarn.core.reading.columnar import open_parquet
from splarn.core.scans.asked import Keys, numbers
from splarn.core.scans.cutting import Groups
from splarn.core.scans.look import Look
from splarn.core.scans.reads import Files
from splarn.core.source.source import Source

# Of so many files, and about so many rows of them, it is seen how long reading takes.
FILES_READ, ROWS_READ = 8, 2_000_000
# Of more files than this each that is looked at stands for several.
MOST_FILES = 400


def delivered_files(
    sources: Sequence[Source], look: Look, keys: Keys,
    partitions: Sequence[tuple[Value, ...]] | None = None,
) -> Files:  # fmt: skip
    """The groups of Parquet files by what these say of themselves; of the files of a table each has
    the values of its partition.

    Columns that a file has beside the look's are as if each followed the column before it.
    Raises OutsideError where a file cannot be read.
    """
    each = max(len(sources) / MOST_FILES, 1.0)
    places = [int(number * each) for number in range(round(len(sources) / each))]
    chosen = [sources[place] for place in places]
    values = [()] if partitions is None else [partitions[place] for place in places]
    names = [one.name for one in look.columns]
    rows, sizes, file, bytes_of, footers = [], [], [], [], []
    extremes: dict[str, list[tuple[float, float]]] = {name: [] for name in keys.values}
    for number, source in enumerate(chosen):
        with ExitStack() as stack:
            footer = stack.enter_context(open_parquet(source.place)).metadata
        bytes_of.append(float(source.size))
        footers.append(float(footer.serialized_size))
        for place in range(footer.num_row_groups):
            group = footer.row_group(place)
            found = dict.fromkeys(names, 0.0)
            told: dict[str, Any] = {}
            for at in range(group.num_columns):
                column = group.column(at)
                path = column.path_in_schema
                name = path if path in found else path.partition(".")[0]
                if name in found:
                    found[name] += column.total_compressed_size
                    told[name] = column.statistics if column.is_stats_set else None
            rows.append(float(group.num_rows))
            sizes.append(list(found.values()))
            file.append(number)
            for name in extremes:
                extremes[name].append(_extremes(told.get(name), name, look, keys))
    count = len(rows)
    groups = Groups(
        np.array(rows), np.full(count, each), np.arange(count), np.array(file),
        np.zeros(count, dtype=int) if partitions is None else np.array(file, dtype=int),
        tuple(values),
        {name: np.array(found).reshape(-1, 2) for name, found in extremes.items()}, each, True,
    )  # fmt: skip
    return Files(
        groups, np.array(sizes).reshape(count, len(names)), np.array(file, dtype=int),
        np.full(len(chosen), each), np.array(bytes_of), np.array(footers),
    )  # fmt: skip


def speed_of(sources: Sequence[Source], columns: Sequence[str]) -> tuple[float, float]:
    """Seconds that opening one of some files takes, and reading a row's columns of it."""
    opening = reading = rows = 0.0
    few = list(sources[:: max(len(sources) // FILES_READ, 1)])[:FILES_READ]
    for source in few:
        begun = time.perf_counter()
        with open_parquet(source.place) as file:
            there = set(file.schema_arrow.names)
            wanted = [name for name in (one.partition(".")[0] for one in columns) if name in there]
            opened = time.perf_counter()
            for batch in file.iter_batches(columns=list(dict.fromkeys(wanted))):
                rows += batch.num_rows
                if rows >= ROWS_READ:
                    break
            reading += time.perf_counter() - opened
        opening += opened - begun
    return opening / len(few), reading / max(rows, 1)


def _extremes(told: Any, name: str, look: Look, keys: Keys) -> tuple[float, float]:
    """The least and the largest value; all that can be where a group does not say."""
    everything = (-np.inf, np.inf)
    if told is None:
        return everything
    if not told.has_min_max:
        return (np.inf, -np.inf) if told.has_null_count and not told.num_values else everything
    kind = look.seen.schema.field(name).type
    if pa.types.is_string(kind):
        if not isinstance(told.min, str):
            return everything
        return keys.bound(name, told.min, False), keys.bound(name, told.max, True)
    try:
        ends = numbers(pa.array([told.min, told.max]).cast(kind))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError, pa.ArrowTypeError, OverflowError):
        return everything
    return float(ends[0]), float(ends[1])

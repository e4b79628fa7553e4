"""Files of columns as they were delivered: the row groups that their own footers tell of."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.reading.columnar import open_parquet
from splarn.core.scans.asked import Keys, numbers
from splarn.core.scans.cutting import Groups
from splarn.core.scans.look import Look
from splarn.core.scans.reads import Files
from splarn.core.source.source import Source

# Of more files than this each that is looked at stands for several.
MOST_FILES = 400


def delivered_files(sources: Sequence[Source], look: Look, keys: Keys) -> Files:
    """The groups of Parquet files by what these say of themselves.

    Columns that a file has beside the look's are as if each followed the column before it.
    Raises OutsideError where a file cannot be read.
    """
    each = max(len(sources) / MOST_FILES, 1.0)
    chosen = [sources[int(number * each)] for number in range(round(len(sources) / each))]
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
        np.zeros(count, dtype=int), ((),),
        {name: np.array(found).reshape(-1, 2) for name, found in extremes.items()}, each, True,
    )  # fmt: skip
    return Files(
        groups, np.array(sizes).reshape(count, len(names)), np.array(file, dtype=int),
        np.full(len(chosen), each), np.array(bytes_of), np.array(footers),
    )  # fmt: skip


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

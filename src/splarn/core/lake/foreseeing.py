"""What partitions rows are going to make, seen from how their files begin."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.partitions import groups
from splarn.core.lake.writing import MOST_PARTITIONS
from splarn.core.layout import Layout
from splarn.core.layout.file_layout import PartitionField
from splarn.core.reading import read_parsed
from splarn.core.source.source import Source
from splarn.core.units import plural

# Of so many files the first rows are looked at, which one block of each holds.
LOOKED_AT = 8
# From so many on that are small it is worth a word.
MANY, FEW_ROWS = 200, 1_000


def foresee(
    sources: Iterable[tuple[Source, Layout]], partition: Sequence[PartitionField]
) -> tuple[str, ...]:
    """What a person should know of the partitions before the first byte is written.

    Raises RequestError where there are going to be too many to be of use.
    """
    seen: set[tuple[object, ...]] = set()
    rows, missing = 0, dict.fromkeys((field.column for field in partition), 0)
    for source, layout in list(sources)[:LOOKED_AT]:
        try:
            parsed = next(iter(read_parsed(source.place, source.codec, layout)), None)
        except (OutsideError, StopIteration):
            continue
        if parsed is None or not set(missing) <= set(parsed.table.column_names):
            continue
        rows += len(parsed.table)
        seen |= {group.values for group in groups(parsed.table, partition)}
        for name in missing:
            missing[name] += parsed.table.column(name).null_count
    by = " ".join(field.text() for field in partition)
    if len(seen) > MOST_PARTITIONS:
        raise RequestError(
            f"{by} would make {len(seen):,} partitions of the first {rows:,} rows alone, each with "
            "files of its own: choose a coarser one, as month() or bucket()."
        )
    told = [
        f"{count:,} of the first {rows:,} rows have no {name}, which puts them into a partition of "
        "their own."
        for name, count in missing.items()
        if count
    ]
    if len(seen) > MANY and rows / len(seen) < FEW_ROWS:
        told.append(
            f"{by} makes {plural(len(seen), 'partition')} of the first {rows:,} rows: many small "
            "files come of that; a coarser one, as month() or bucket(), makes fewer."
        )
    return tuple(told)

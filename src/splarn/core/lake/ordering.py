"""Rows in order, also of more than fit into memory."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


def in_order(rows: Iterable[Any], names: Sequence[str], passes: int) -> Iterator[Any]:
    """Arrow tables as they lie, or in the order of the named columns.

    By so many goes through them, each of a stretch of values that is sorted in memory; `rows` must
    give the same ones again.
    """
    if not names:
        yield from rows
        return
    keys = [(name, "ascending") for name in names]
    edges = _edges(rows, names[0], passes)
    for number in range(len(edges) + 1):
        some = [_between(one, names[0], edges, number) for one in rows]
        held = pa.concat_tables([one for one in some if len(one)] or some[:1])
        yield held.take(pc.sort_indices(held, sort_keys=keys))


def _edges(rows: Iterable[Any], name: str, passes: int) -> list[Any]:
    """Values that part the rows into about so many stretches of one size."""
    if passes < 2:
        return []
    seen = []
    for one in rows:
        column = one.column(name)
        seen.append(column.take(pa.array(np.arange(0, len(column), max(len(column) // 500, 1)))))
    sample = pc.drop_null(pa.chunked_array([chunk for one in seen for chunk in one.chunks]))
    sample = sample.take(pc.sort_indices(sample))
    places = [len(sample) * n // passes for n in range(1, passes)]
    values = [sample[place] for place in places] if len(sample) else []
    found: list[Any] = []
    for value in values:
        if not found or found[-1].as_py() != value.as_py():
            found.append(value)
    return found


def _between(rows: Any, name: str, edges: Sequence[Any], number: int) -> Any:
    """The rows of one stretch; those without a value are in the last."""
    if not edges:
        return rows
    column = rows.column(name)
    mask = None
    if number:
        mask = pc.greater_equal(column, edges[number - 1])
    if number < len(edges):
        below = pc.less(column, edges[number])
        mask = below if mask is None else pc.and_(mask, below)
    last = number == len(edges)
    return rows.filter(pc.fill_null(mask, last))


def regrouped(rows: Iterator[Any], group_rows: int) -> Iterator[Any]:
    """Rows in pieces of the size of a row group."""
    held: list[Any] = []
    count = 0
    for some in rows:
        while len(some):
            piece = some.slice(0, group_rows - count)
            held.append(piece)
            count += len(piece)
            some = some.slice(len(piece))
            if count >= group_rows:
                yield pa.concat_tables(held).combine_chunks()
                held, count = [], 0
    if held:
        yield pa.concat_tables(held).combine_chunks()

"""Where configurations at volumes lie to one another, for errors that neighbours have in common."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from splarn.core.tuning.columns import KINDS, Floats, Places, Table, Volume
from splarn.core.tuning.configuration import LEVERS
from splarn.core.units import tier_units

# Over so many doublings of a lever an error may become another, and over so many of the volume.
DOUBLINGS, GROWTH = 2.0, 12.0
# How far apart two packings or ways of writing are, in the same measure.
APART = 1.0
APART_BY = ("packing", "way")

# The values of each kind among all configurations that are ever asked for.
Kinds = Mapping[str, Sequence[str]]


def kinds_of(*tables: Table) -> Kinds:
    """The packings and ways of writing among configurations."""
    found = {}
    for kind in APART_BY:
        levers, name = KINDS[kind]
        every = {str(one) for table in tables for one in table.each(levers, name)[0]}
        found[kind] = sorted(every)
    return found


def places_of(
    table: Table,
    volumes: Sequence[Volume],
    kinds: Kinds,
    levers: Sequence[str] = tuple(LEVERS),
    which: Places | None = None,
) -> Floats:
    """Where configurations lie: numbers by their doublings, kinds by columns of their own.

    Shape (n, features); only these `levers` count, and of each what of it is at work at the volume:
    no more streams than there are parts, and no batch larger than a part. `which` tells the volume
    of each, all the first one where None.
    """
    which = np.zeros(table.count, dtype=int) if which is None else which
    columns: list[Floats] = []

    def number(lever: str, at_work: Callable[..., float]) -> None:
        if lever in levers:
            own = () if lever == "part_size" else (lever,)
            made, back = table.each(("part_size", *own), at_work, which)
            columns.append(np.log2(np.array(made, dtype=float))[back] / DOUBLINGS)

    def parts(place: int, part_size: int) -> float:
        return max(-(-volumes[place].bytes // part_size), 1)

    def streams(place: int, part_size: int, count: int) -> float:
        return min(max(count, 1), parts(place, part_size))

    def batch(place: int, part_size: int, rows: int) -> float:
        volume = volumes[place]
        size = min(part_size, max(volume.bytes, 1))
        part_rows = max(size * volume.rows / max(volume.bytes, 1), 1.0)
        return min(rows or part_rows, part_rows)

    number("part_size", lambda place, size: min(size, max(volumes[place].bytes, 1)))
    number("workers", streams)
    number("load_streams", streams)
    number("transfer_streams", streams)
    number("machines", streams)
    number("batch_rows", batch)
    if "tier" in levers:
        made, back = table.each(("tier",), lambda tier: max(tier_units(tier), 1))
        columns.append(np.log2(np.array(made, dtype=float))[back] / DOUBLINGS)
    sizes = np.log2([max(volume.bytes, 1) for volume in volumes]) / GROWTH
    columns.append(sizes[which])
    for kind in APART_BY:
        of, name = KINDS[kind]
        if not set(of) & set(levers):
            continue
        made, back = table.each(of, name)
        for value in kinds[kind]:
            here: list[Any] = [one == value for one in made]
            columns.append(APART / 2**0.5 * np.array(here, dtype=float)[back])
    return np.stack(columns, axis=1)


def alike(some: Floats, others: Floats) -> Floats:
    """How much the errors at two places have in common, 0 to 1; shape (some, others)."""
    squares = (some**2).sum(1)[:, None] + (others**2).sum(1)[None, :] - 2 * some @ others.T
    found: Floats = np.exp(-0.5 * np.maximum(squares, 0))
    return found

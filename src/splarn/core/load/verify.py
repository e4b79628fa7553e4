"""Verification: what was read held against what the table says."""

from __future__ import annotations

from collections.abc import Sequence

from splarn.core.target.digest import ColumnDigest


def compare_digests(
    read: Sequence[ColumnDigest], before: Sequence[ColumnDigest], table: Sequence[ColumnDigest]
) -> list[str]:
    """What differs between the rows read plus those there before, and the table; one line a column.

    All three are in the same field order; `before` may be empty.
    """
    differing = []
    for index, mine in enumerate(read):
        expected = before[index].plus(mine) if before else mine
        differences = table[index].differences(expected)
        if differences:
            differing.append(f"column {mine.name}: {', '.join(differences)}")
    return differing

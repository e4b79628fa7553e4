"""Hashes of whole rows that two sides compute alike: one figure tells whether all cells are there.

A column's sum and extremes leave changes unseen that cancel one another out; the sum of a hash of
each row does not, and an engine computes it in one scan with one aggregate.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from splarn.core.target.marks import Marks

# Rises whenever a hash of rows is another than before: sums of others are held against nothing.
HASHES = 2


@dataclass(frozen=True)
class RowSum:
    """How many rows there are, and the sum of the hashes of all of them."""

    rows: int = 0
    total: int = 0

    def plus(self, other: RowSum) -> RowSum:
        """That of both sets of rows together."""
        return RowSum(self.rows + other.rows, self.total + other.total)


class RowHasher(Protocol):
    """Hashes rows here as an engine hashes what it holds."""

    def sum_of(self, rows: Any) -> RowSum | None:
        """The sum of a pyarrow Table's rows; None where the engine may hash them in another way."""


class Unhashed:
    """The part of Digests about hashes, for engines whose hashes nobody here can repeat."""

    def hasher(self, table: str, names: Sequence[str]) -> RowHasher | None:
        """See Digests."""
        return None

    def row_sum(
        self,
        table: str,
        names: Sequence[str],
        marks: Marks | None = None,
        uncommitted: bool = False,
    ) -> RowSum | None:
        """See Digests."""
        return None

    def sum_as_fingerprint(self, table: str, names: Sequence[str], found: RowSum) -> str | None:
        """See Digests."""
        return None

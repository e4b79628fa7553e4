"""Hashes of whole rows that two sides compute alike: one figure tells whether all cells are there.

A column's sum and extremes leave changes unseen that cancel one another out; the sum of a hash of
each row does not, and an engine computes it in one scan with one aggregate.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol


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

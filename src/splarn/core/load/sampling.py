"""A few rows out of all that were read, evenly spread, to be looked for in the table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

# Rows kept of a part, and those taken at a time.
MOST = 400
EACH = 64


class Sampling:
    """Takes rows from every piece that passes; when they become too many, every other one stays."""

    def __init__(self, names: Sequence[str]) -> None:
        self._names = list(names)
        self._taken: list[Any] = []
        self._rows = 0
        # Of so many pieces one is taken from.
        self._every = 1
        self._passed = 0

    def take(self, rows: Any) -> None:
        """Takes a few of the rows of a pyarrow Table."""
        self._passed += 1
        if self._passed % self._every or not len(rows):
            return
        step = max(len(rows) // EACH, 1)
        taken = rows.select(self._names).take(list(range(0, len(rows), step))[:EACH])
        self._taken.append(taken)
        self._rows += len(taken)
        if self._rows > MOST:
            self._taken = self._taken[::2]
            self._rows = sum(len(one) for one in self._taken)
            self._every *= 2

    def rows(self) -> Any:
        """What was taken, as a pyarrow Table; None where nothing passed."""
        import pyarrow as pa

        return pa.concat_tables(self._taken) if self._taken else None


def spread(samples: Sequence[Any], most: int) -> Any:
    """At most so many rows out of several samples, evenly; None where there are none."""
    import pyarrow as pa

    tables = [sample for sample in samples if sample is not None and len(sample)]
    if not tables:
        return None
    rows = pa.concat_tables(tables)
    if len(rows) <= most:
        return rows
    return rows.take([round(index * len(rows) / most) for index in range(most)])

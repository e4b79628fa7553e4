"""What an engine is asked for its rows back: columns as fields, ranges of rows, and the rows."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Protocol

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.reading.faults import Fault


@dataclass(frozen=True)
class Wanted:
    """Rows of a table, of which the named columns come (all if none is named), or of a query."""

    table: str = ""
    query: str = ""
    names: tuple[str, ...] = ()


@dataclass(frozen=True)
class RowRange:
    """Rows whose places in their table are from `first` up to `end`, which is left out.

    What a place is, is the engine's matter: a block, a number of a row, a value of a key.
    """

    first: int
    end: int


def unheld(fault: Fault) -> RequestError:
    """The error for a value of the table that no part can hold."""
    return RequestError(
        f"A row holds {fault.value!r} in {fault.field}, which is {fault.message}: no part can hold "
        "it; give a --query with a CAST, or a WHERE that leaves it out."
    )


class Outgoing(Protocol):
    """Rows on their way out. All raise OutsideError when the engine fails."""

    def hold(self) -> str:
        """Begins to look at the target as it is now, whatever others change meanwhile.

        Returns what lets another session see the same, empty where each can only begin by itself.
        """

    def join(self, held: str) -> None:
        """Begins to look at the target as the session does that holds it so."""

    def fields(self, wanted: Wanted) -> tuple[Field, ...]:
        """The columns of what is wanted, as fields that hold every value of theirs.

        Raises RequestError where there are no such rows, or a column that no field can hold.
        """

    def count(self, wanted: Wanted) -> int:
        """How many rows it is."""

    def ranges(self, wanted: Wanted, count: int) -> list[RowRange]:
        """About so many ranges that hold all rows once; none where they come in one piece alone."""

    def typed(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> Iterator[Any]:
        """The rows of a range, at `most` so many, as Arrow tables of the layout's types."""

    def text(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None
    ) -> Iterator[tuple[bytes, int]] | None:
        """The same as delimited text in the layout's own form, with how many rows it is.

        Whole records in each piece. None where the engine cannot write it itself.
        """

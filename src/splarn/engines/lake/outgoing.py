"""Rows on their way out of a lake: file by file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.target.outgoing import RowRange, Wanted
from splarn.engines.lake.reading import tables_of
from splarn.engines.lake.tables import Concern


class LakeOutgoing(Concern):
    """By the places of rows, counted through the files of a snapshot, which never changes."""

    _snapshot: int | None = None

    def hold(self) -> str:
        """See Outgoing. A table is looked at once, and its files do not change."""
        return ""

    def join(self, held: str) -> None:
        """See Outgoing."""

    def fields(self, wanted: Wanted) -> tuple[Field, ...]:
        """See Outgoing."""
        if wanted.query:
            raise RequestError("A lake knows no statements: give --table.")
        known = {one.name: one for one in self.link.columns(wanted.table) or ()}
        held = {name: one for name, one in known.items() if one.arrow_type is not None}
        for name in wanted.names:
            if name not in held:
                kind = known[name].type if name in known else "not there"
                raise RequestError(f"The column {name} is {kind}, which no part can hold.")
        return tuple(held[name].field() for name in wanted.names or held)

    def count(self, wanted: Wanted) -> int:
        """See Outgoing."""
        return sum(one.file.rows for one in self.link.files(wanted.table))

    def ranges(self, wanted: Wanted, count: int) -> list[RowRange]:
        """See Outgoing."""
        rows = self.count(wanted)
        each = max(-(-rows // count), 1)
        return [RowRange(at, min(at + each, rows)) for at in range(0, rows, each)]

    def typed(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> Iterator[Any]:
        """See Outgoing."""
        known = {one.name: one for one in self.link.columns(wanted.table) or ()}
        columns = [known[name] for name in layout.names]
        first = 0
        for one in self.link.files(wanted.table):
            start = 0 if rows is None else max(rows.first - first, 0)
            end = one.file.rows if rows is None else min(rows.end - first, one.file.rows)
            first += one.file.rows
            if start >= end:
                continue
            for table in tables_of(self.link.storage, [one], columns, span=(start, end)):
                yield table.slice(0, most).cast(layout.arrow_schema)
                if most is not None:
                    return

    def text(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None
    ) -> Iterator[tuple[bytes, int]] | None:
        """See Outgoing."""
        return None

"""Rows on their way out of Millrace: its chunks, as they lie there."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.layout.descriptor import from_descriptor
from splarn.core.target.outgoing import RowRange, Wanted
from splarn.engines.millrace.parts import Concern


class MillraceOutgoing(Concern):
    """By the numbers of chunks, which never change while they are there."""

    def hold(self) -> str:
        """See Outgoing. What is taken away meanwhile is missed."""
        return ""

    def join(self, held: str) -> None:
        """See Outgoing."""

    def fields(self, wanted: Wanted) -> tuple[Field, ...]:
        """See Outgoing."""
        if wanted.query:
            raise RequestError("Millrace knows no statements: give --table.")
        layout = from_descriptor(self.link.ask("columns", table=wanted.table), wanted.table)
        known = {field.name: field for field in layout.fields}
        return tuple(known[name] for name in wanted.names)

    def count(self, wanted: Wanted) -> int:
        """See Outgoing."""
        return int(self.link.ask("count", table=wanted.table))

    def ranges(self, wanted: Wanted, count: int) -> list[RowRange]:
        """See Outgoing."""
        chunks = self._chunks(wanted.table)
        each = max(-(-len(chunks) // count), 1)
        return [
            RowRange(chunks[at], chunks[min(at + each, len(chunks)) - 1] + 1)
            for at in range(0, len(chunks), each)
        ]

    def typed(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> Iterator[Any]:
        """See Outgoing."""
        from pyarrow import feather

        for number in self._chunks(wanted.table):
            if rows is not None and not rows.first <= number < rows.end:
                continue
            chunk = io.BytesIO(self.link.fetch(f"/chunk/{number}"))
            table = feather.read_table(chunk, columns=list(layout.names))
            yield table.select(list(layout.names)).slice(0, most).cast(layout.arrow_schema)
            if most is not None:
                return

    def text(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None
    ) -> Iterator[tuple[bytes, int]] | None:
        """See Outgoing."""
        return None

    def _chunks(self, table: str) -> list[int]:
        told = self.link.call("GET", f"/chunks/{quote(table, safe='')}")["chunks"]
        return [int(number) for number, _ in told]

"""Rows on their way out of a DuckDB file, as the columns that it holds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pyarrow as pa

from splarn.core.layout import Field, Layout
from splarn.core.target.outgoing import RowRange, Wanted
from splarn.engines.sql.declared import kind_of
from splarn.engines.sql.outgoing import FETCHED, SqlOutgoing


class DuckdbOutgoing(SqlOutgoing):
    """By the numbers of rows; Arrow tables come as they are."""

    place = "rowid"

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self._kinds: dict[str, str] = {}

    def _declared(self, wanted: Wanted) -> list[tuple[str, str, bool]]:
        """What DuckDB itself says of what a statement would answer."""
        found = self.link.run(f"DESCRIBE SELECT * FROM {self._source(wanted)}").rows
        required = {
            one.name: not one.optional for one in self.known.columns(wanted.table) or ()
        } if wanted.table else {}  # fmt: skip
        self._kinds = {str(row[0]): str(row[1]) for row in found}
        return [(name, kind, required.get(name, False)) for name, kind in self._kinds.items()]

    def _extent(self, table: str) -> tuple[int, int] | None:
        """See SqlOutgoing. Views have no rows of their own."""
        return super()._extent(table) if self.known.kind(table) == "table" else None

    def _selected(self, field: Field) -> str:
        """See SqlOutgoing. What Arrow has in another type is written as ours."""
        name = self.link.quoted(field.name, dotted=False)
        told = kind_of(self._kinds.get(field.name, ""))
        if told == "instant":
            return f"CAST({name} AT TIME ZONE 'UTC' AS TIMESTAMP) AS {name}"
        if field.is_text and told != "varchar":
            nested = self._kinds.get(field.name, "").endswith(("]", ")"))
            return f"{'to_json' if nested else ''}({name})::VARCHAR AS {name}"
        return name

    def typed(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> Iterator[Any]:
        """See Outgoing."""
        with self._reading(wanted):
            if not self._kinds:
                self._declared(wanted)
            answer = self.link.driver.sql(self._statement(wanted, layout, rows, most))
            # An earlier DuckDB calls it otherwise.
            reader = getattr(answer, "to_arrow_reader", None) or answer.fetch_arrow_reader
            for batch in reader(FETCHED):
                table = pa.Table.from_batches([batch])
                yield table.rename_columns(list(layout.names)).cast(layout.arrow_schema)

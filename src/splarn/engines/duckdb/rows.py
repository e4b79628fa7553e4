"""DuckDB's rows: Arrow tables inserted as they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from splarn.core.layout import Layout
from splarn.core.reading.parsed import Parsed
from splarn.core.target.marks import Marks
from splarn.core.target.tables import Tables, Writer
from splarn.engines.duckdb.link import DuckdbLink
from splarn.engines.sql.rows import SqlRows, between

# Rows held back, so that each insert fills whole row groups.
HOLD_ROWS = 122_880


class DuckdbRows(SqlRows):
    """Rows, which are marked by their numbers."""

    link: DuckdbLink

    def __init__(self, link: DuckdbLink, tables: Tables) -> None:
        super().__init__(link, tables)

    def last_mark(self, table: str) -> int | None:
        """See Rows. Rows are numbered as they are added, and no other program adds any."""
        with self.link.failing("Looking at the rows of", table):
            answer = self.link.run(
                f"SELECT coalesce(max(rowid), -1) FROM {self.link.quoted(table)}"
            )
            return int(answer.value)

    def within(self, table: str, marks: Marks) -> str:
        """See Rows."""
        return between("rowid", marks)

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows."""
        return ArrowWriter(self.link, table, names)


class ArrowWriter:
    """One batch, its Arrow tables inserted by DuckDB itself."""

    def __init__(self, link: DuckdbLink, table: str, names: Sequence[str]) -> None:
        self.link = link
        self.table = table
        listed = link.listed(names)
        into = link.quoted(table)
        self.into = f"INSERT INTO {into} ({listed}) SELECT {listed} FROM splarn_rows"
        self.held: list[Any] = []
        self.rows = 0

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        self.held.append(parsed.table.slice(start, stop - start))
        self.rows += stop - start
        if self.rows >= HOLD_ROWS:
            self._insert()

    def close(self) -> Marks | None:
        """See Writer. Rows are numbered only when they are committed."""
        if self.rows:
            self._insert()
        return None

    def _insert(self) -> None:
        with self.link.failing("Writing to", self.table):
            self.link.begin()
            driver = self.link.driver
            driver.register("splarn_rows", pa.concat_tables(self.held))
            driver.execute(self.into)
            driver.unregister("splarn_rows")
        self.held, self.rows = [], 0

"""Rows on their way out of MariaDB, fetched while the server keeps the others."""

from __future__ import annotations

import secrets
from typing import Any

from splarn.core.layout import Layout
from splarn.core.target.outgoing import RowRange, Wanted
from splarn.engines.sql.outgoing import SqlOutgoing


class MariadbOutgoing(SqlOutgoing):
    """By a primary key that is one whole number; other tables come in one piece."""

    def hold(self) -> str:
        """See Outgoing. Each session can only begin by itself."""
        self.link.rollback()
        self.link.run("START TRANSACTION WITH CONSISTENT SNAPSHOT")
        return ""

    def join(self, held: str) -> None:
        """See Outgoing."""
        self.hold()

    def _declared(self, wanted: Wanted) -> list[tuple[str, str, bool]]:
        """The server's own words; of a query, those of a table that it would make of it."""
        if not wanted.query:
            return super()._declared(wanted)
        table = self.link.quoted(f"splarn_wanted_{secrets.token_hex(4)}")
        self.link.run(
            f"CREATE TEMPORARY TABLE {table} AS SELECT * FROM {self._source(wanted)} LIMIT 0"
        )
        try:
            found = self.link.run(f"SHOW COLUMNS FROM {table}").rows
            return [(str(row[0]), str(row[1]), False) for row in found]
        finally:
            self.link.run(f"DROP TEMPORARY TABLE {table}")

    def _extent(self, table: str) -> tuple[int, int] | None:
        """See SqlOutgoing."""
        self.place = self._key(table)
        return super()._extent(table)

    def _key(self, table: str) -> str:
        found = self.link.run(f"SHOW KEYS FROM {self.link.quoted(table)}").named()
        key = [row["Column_name"] for row in found if row["Key_name"] == "PRIMARY"]
        kinds = {one.name: one.type for one in self.known.columns(table) or ()}
        if len(key) != 1 or kinds[key[0]] != "integer":
            return ""
        return self.link.quoted(key[0], dotted=False)

    def _statement(
        self, wanted: Wanted, layout: Layout, rows: RowRange | None, most: int | None = None
    ) -> str:
        """See SqlOutgoing."""
        if rows is not None and not self.place:
            self.place = self._key(wanted.table)
        return super()._statement(wanted, layout, rows, most)

    def _cursor(self) -> Any:
        """See SqlOutgoing."""
        from pymysql.cursors import SSCursor

        return self.link.driver.cursor(SSCursor)

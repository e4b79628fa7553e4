"""Rows on their way out of an SQLite file."""

from __future__ import annotations

import secrets

from splarn.core.target.outgoing import RowRange, Wanted
from splarn.engines.sql.outgoing import SqlOutgoing


class SqliteOutgoing(SqlOutgoing):
    """By the numbers of rows, which every table has but those WITHOUT ROWID."""

    place = "rowid"
    whole_numbers = 64

    def _declared(self, wanted: Wanted) -> list[tuple[str, str, bool]]:
        """As the table's statement has it; of a query, what SQLite still knows of its columns."""
        if not wanted.query:
            return self._described(wanted.table)
        # What is temporary is found before what has the same name in the file.
        view = f"splarn_wanted_{secrets.token_hex(4)}"
        self.link.run(f"CREATE TEMP VIEW {view} AS {wanted.query}")
        try:
            return self._described(view)
        finally:
            self.link.run(f"DROP VIEW temp.{view}")

    def _described(self, table: str) -> list[tuple[str, str, bool]]:
        found = self.link.run(f"PRAGMA table_info({self.link.quoted(table)})").rows
        return [(str(row[1]), str(row[2]), bool(row[3])) for row in found]

    def _extent(self, table: str) -> tuple[int, int] | None:
        """See SqlOutgoing."""
        kind = self.link.run(
            "SELECT type = 'table' AND upper(sql) NOT LIKE '%WITHOUT ROWID%' FROM sqlite_master "
            "WHERE name = :name", name=table,
        ).value  # fmt: skip
        return super()._extent(table) if kind else None

    def _within(self, rows: RowRange) -> str:
        """See SqlOutgoing."""
        return f"rowid BETWEEN {rows.first} AND {rows.end - 1}"

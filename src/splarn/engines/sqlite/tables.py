"""SQLite's tables, by what sqlite_master and its pragmas say of them."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import sqlalchemy as sa

from splarn.core.target.names import join_name, schema_and_name, split_name
from splarn.core.target.tables import TableColumn, TableIndex
from splarn.engines.sql.tables import FileTables

LONG_DECIMAL = "DECIMAL_TEXT"


class LongDecimal(sa.types.UserDefinedType[str]):
    """Decimals as text; the name gives the column SQLite's text affinity."""

    cache_ok = True

    def get_col_spec(self, **_: Any) -> str:
        """The type as the table's statement has it."""
        return LONG_DECIMAL


class SqliteTables(FileTables):
    """Tables of the file."""

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables."""
        described = super().columns(table)
        if described is None:
            return None
        declared = self.link.run(f"PRAGMA table_info({self.link.quoted(table)})").rows
        long = {row[1] for row in declared if row[2] == LONG_DECIMAL}
        numbered = "AUTOINCREMENT" in self.statement_of(table).upper()
        key = [row[1] for row in declared if row[5]]
        return [
            replace(
                column,
                type="number" if column.name in long else column.type,
                identity=numbered and column.name in key,
            )
            for column in described
        ]

    def canonical(self, table: str) -> str:
        """See Tables. Only main is a schema here; other dots belong to the name."""
        pieces = split_name(table)
        if len(pieces) > 1 and pieces[0].lower() == "main":
            pieces = pieces[1:]
        bare = ".".join(pieces)
        with self.link.failing("Looking for the table", table):
            names = self.link.run(
                "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') "
                "AND lower(name) = lower(:name)",
                name=bare,
            ).rows
        return join_name(names[0][0] if names else bare)

    def kind(self, table: str) -> str:
        """See Tables."""
        with self.link.failing("Looking for the table", table):
            kinds = self.link.run(
                "SELECT type FROM sqlite_master WHERE type IN ('table', 'view') "
                "AND lower(name) = lower(:name)",
                name=schema_and_name(table)[1],
            ).rows
        if not kinds:
            return ""
        return "table" if kinds[0][0] == "table" else f"a {kinds[0][0]}"

    def columns_text(self, table: str) -> str:
        """See Tables."""
        with self.link.failing("Looking at the table", table):
            described = self.link.run(f"PRAGMA table_xinfo({self.link.quoted(table)})").rows
        return json.dumps([[row[1], row[2]] for row in described])

    def statement_of(self, table: str) -> str:
        """See Tables."""
        answer = self.link.run(
            "SELECT sql FROM sqlite_master WHERE type = 'table' AND lower(name) = lower(:name)",
            name=schema_and_name(table)[1],
        )
        return str(answer.value)

    def indexes(self, table: str) -> list[TableIndex]:
        """See Tables."""
        with self.link.failing("Looking at the indexes of", table):
            answer = self.link.run(
                "SELECT name, sql FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL "
                "AND lower(tbl_name) = lower(:name) ORDER BY name",
                name=schema_and_name(table)[1],
            ).rows
            listed = self.link.run(f"PRAGMA index_list({self.link.quoted(table)})").rows
        unique = {row[1] for row in listed if row[2]}
        return [TableIndex(name, sql, name in unique) for name, sql in answer]

    def ties(self, table: str) -> list[str]:
        """See Tables."""
        with self.link.failing("Looking at what hangs on", table):
            answer = self.link.run(
                "SELECT name FROM sqlite_master WHERE type = 'trigger' "
                "AND lower(tbl_name) = lower(:name)",
                name=schema_and_name(table)[1],
            )
            return [f"it has the trigger {row[0]}" for row in answer.rows]

    def rename(self, table: str, name: str) -> None:
        """See Tables. What names the table goes on meaning that name."""
        self.link.run("PRAGMA legacy_alter_table = ON")
        super().rename(table, name)

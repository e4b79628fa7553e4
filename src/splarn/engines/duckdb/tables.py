"""DuckDB's tables, by what its own catalogue says of them."""

from __future__ import annotations

import json
from typing import Any

from splarn.core.target.names import join_name, schema_and_name, split_name
from splarn.core.target.tables import TableColumn, TableIndex
from splarn.engines.sql.tables import FileTables

_TYPES = {
    "date": "date",
    "time": "time",
    "boolean": "boolean",
    "varchar": "string",
    "uuid": "string",
    "json": "string",
    "double": "number",
    "float": "number",
}


class DuckdbTables(FileTables):
    """Tables of the file."""

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables."""
        with self.link.failing("Looking at the table", table):
            schema, bare = schema_and_name(table)
            described = self.link.driver.execute(
                "SELECT column_name, lower(data_type), is_nullable = 'YES' OR "
                "column_default IS NOT NULL, coalesce(column_default, '') LIKE 'nextval(%' "
                "FROM information_schema.columns "
                "WHERE table_name = ? AND table_schema = coalesce(?, current_schema()) "
                "ORDER BY ordinal_position",
                [bare, schema],
            ).fetchall()
        return [
            TableColumn(name, _field_type(kind), free, numbered)
            for name, kind, free, numbered in described
        ] or None

    def statement_of(self, table: str) -> str:
        """See Tables."""
        described = self._described("sql", "duckdb_tables()", table)
        return str(described[0][0])

    def indexes(self, table: str) -> list[TableIndex]:
        """See Tables."""
        with self.link.failing("Looking at the indexes of", table):
            described = self._described("index_name, sql, is_unique", "duckdb_indexes()", table)
        return [TableIndex(name, sql, unique) for name, sql, unique in described if sql]

    def _described(self, what: str, where: str, table: str) -> list[Any]:
        schema, bare = schema_and_name(table)
        answer = self.link.driver.execute(
            f"SELECT {what} FROM {where} WHERE table_name = ? "
            "AND schema_name = coalesce(?, current_schema())",
            [bare, schema],
        )
        return list(answer.fetchall())

    def canonical(self, table: str) -> str:
        """See Tables. Names differ by more than case; main is where tables are by default."""
        pieces = split_name(table)
        if len(pieces) == 3:
            pieces = pieces[1:]
        schema, bare = schema_and_name(join_name(*pieces))
        with self.link.failing("Looking for the table", table):
            names = self.link.driver.execute(
                "SELECT schema_name, table_name FROM duckdb_tables() WHERE database_name = "
                "current_database() AND lower(table_name) = lower(?) "
                "AND lower(schema_name) = lower(?)",
                [bare, schema or "main"],
            ).fetchall()
        schema, bare = names[0] if names else (schema, bare)
        return join_name(None if (schema or "main").lower() == "main" else schema, bare)

    def kind(self, table: str) -> str:
        """See Tables."""
        schema, bare = schema_and_name(table)
        kinds = self.link.driver.execute(
            "SELECT table_type FROM information_schema.tables WHERE table_name = ? "
            "AND table_schema = coalesce(?, 'main') AND table_catalog = current_database()",
            [bare, schema],
        ).fetchall()
        if not kinds:
            return ""
        return "table" if "TABLE" in kinds[0][0] else f"a {kinds[0][0].lower()}"

    def columns_text(self, table: str) -> str:
        """See Tables."""
        schema, bare = schema_and_name(table)
        described = self.link.driver.execute(
            "SELECT column_name, data_type FROM information_schema.columns WHERE table_name = ? "
            "AND table_schema = coalesce(?, 'main') AND table_catalog = current_database() "
            "ORDER BY ordinal_position",
            [bare, schema],
        ).fetchall()
        return json.dumps(described)

    def continue_numbers(self, table: str, column: str) -> str:
        """See Tables. A sequence that a table uses cannot be set."""
        with self.link.failing("Looking at the numbers of", table):
            name = self.link.quoted(column, dotted=False)
            last = self.link.run(f"SELECT max({name}) FROM {self.link.quoted(table)}").value
        return (
            f"{column} was stored up to {last:,}, and DuckDB cannot set a sequence: the table's "
            "own numbers do not go on behind that and may come again; give --numbers table to let "
            "the table number all rows."
        )


def _field_type(kind: str) -> str:
    """Our word for a column type; `any` for one that Splarn does not judge."""
    if kind.startswith("timestamp"):
        return "datetime"
    if kind.startswith("decimal"):
        return "number"
    if kind.endswith("int") or kind == "integer":
        return "integer"
    return _TYPES.get(kind, "any")

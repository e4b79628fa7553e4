"""PostgreSQL's tables, and what goes with them when one takes another's place."""

from __future__ import annotations

from splarn.core.errors import RequestError
from splarn.core.target.names import join_name, schema_and_name, split_name
from splarn.core.target.tables import LIKE, Likeness, TableIndex
from splarn.engines.postgresql.twin import carry_over, go_on_numbering, take_names, ties
from splarn.engines.sql.tables import SqlTables


class PostgresqlTables(SqlTables):
    """Tables of any schema."""

    def canonical(self, table: str) -> str:
        """See Tables. The schema that the search path leads to, and the name."""
        pieces = split_name(table)
        with self.link.failing("Looking for the table", table):
            here, database = self.link.run("SELECT current_schema(), current_database()").rows[0]
            if len(pieces) == 3 and pieces[0] == database:
                pieces = pieces[1:]
            schema, bare = schema_and_name(join_name(*pieces))
            if schema is None:
                schemas = self.link.run(
                    "SELECT nspname FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace "
                    "WHERE c.oid = to_regclass(:name)",
                    name=self.link.quoted(join_name(bare)),
                ).rows
                schema = schemas[0][0] if schemas else here
        if schema is None:
            raise RequestError(
                f"No schema for the table {table} exists in {self.link.place}: write it like "
                f"public.{table}."
            )
        return join_name(schema, bare)

    def kind(self, table: str) -> str:
        """See Tables."""
        with self.link.failing("Looking for the table", table):
            kinds = self.link.run(
                "SELECT relkind::text FROM pg_class WHERE oid = to_regclass(:name)",
                name=self.link.quoted(table),
            ).rows
        return _KINDS.get(kinds[0][0], "no table") if kinds else ""

    def longest_name(self) -> tuple[int, str] | None:
        """See Tables."""
        return 63, "bytes"

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables."""
        kind = "TABLE" if like.logged else "UNLOGGED TABLE"
        with self.link.failing("Making the table", copy):
            self.link.run(
                f"CREATE {kind} {self.link.quoted(copy)} "
                f"(LIKE {self.link.quoted(table)} INCLUDING ALL)"
            )
            if like.twin:
                carry_over(self.link, table, copy)
        if not like.indexes:
            self._drop_plain_indexes(copy)

    def indexes(self, table: str) -> list[TableIndex]:
        """See Tables."""
        with self.link.failing("Looking at the indexes of", table):
            answer = self.link.run(
                "SELECT c.relname, pg_get_indexdef(i.indexrelid), i.indisunique FROM pg_index i "
                "JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = to_regclass(:name) "
                "AND NOT EXISTS (SELECT 1 FROM pg_constraint WHERE conindid = i.indexrelid) "
                "ORDER BY c.relname",
                name=self.link.quoted(table),
            )
            return [TableIndex(*row) for row in answer.rows]

    def ties(self, table: str) -> list[str]:
        """See Tables."""
        with self.link.failing("Looking at what hangs on", table):
            return ties(self.link, table)

    def continue_numbers(self, table: str, column: str) -> str:
        """See Tables."""
        with self.link.failing("Moving on the numbers of", table):
            owned = self.link.run(
                "SELECT pg_get_serial_sequence(:name, :column)",
                name=self.link.quoted(table),
                column=column,
            ).value
            if owned is not None:
                last = f"max({self.link.quoted(column, dotted=False)})"
                sequence = owned.replace("'", "''")
                self.link.run(
                    f"SELECT setval('{sequence}', {last}) FROM {self.link.quoted(table)} "
                    "HAVING max(1) IS NOT NULL"
                )
        return ""

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables. The new table is to everybody what the old one was, its names included."""
        there = self.columns(table) is not None
        with self.link.failing("Swapping in the table", table):
            if there:
                carry_over(self.link, table, side_table)
                go_on_numbering(self.link, table, side_table)
        super().swap(table, side_table, before)
        if there:
            with self.link.failing("Making the indexes of", table):
                take_names(self.link, table, before)


_KINDS = {
    "r": "table",
    "p": "table",
    "v": "a view",
    "m": "a materialized view",
    "f": "a foreign table",
    "S": "a sequence",
    "i": "an index",
    "I": "an index",
    "c": "a type",
}

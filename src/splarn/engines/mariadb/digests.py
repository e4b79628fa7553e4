"""MariaDB's digests."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest, add_digests
from splarn.core.target.marks import Marks
from splarn.engines.mariadb.tables import MariadbTables
from splarn.engines.sql.digests import OWN, SqlDigests
from splarn.engines.sql.link import Link
from splarn.engines.sql.rows import SqlRows

# Rows from which on two connections read a table's digests in less time than one.
WORTH_TWO = 200_000


class MariadbDigests(SqlDigests):
    """Digests as the server computes them; `reconnect` gives another connection."""

    tables: MariadbTables

    def __init__(
        self, link: Link, tables: MariadbTables, rows: SqlRows, reconnect: Callable[[], Link]
    ) -> None:
        super().__init__(link, tables, rows)
        self.reconnect = reconnect

    def hash_name(self) -> str:
        """See Digests."""
        return "mariadb-crc32"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests. A null is written as a byte that no UTF-8 has."""
        cells = ", ".join(f"ifnull(cast({column} AS BINARY), 0xFE)" for column in columns)
        return f"crc32(concat_ws(0xFF, {cells}))"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"cast({column} AS BINARY)"

    def own_table(self, query: str, key: Field) -> str:
        """See Digests. Without an index each row would be held against each."""
        column = f"{self.link.quoted(key.name, dotted=False)}{'(60)' if key.is_text else ''}"
        return f"CREATE TEMPORARY TABLE {self.link.quoted(OWN)} (INDEX ({column})) AS {query}"

    def drop_own(self) -> None:
        """See Digests."""
        with suppress(Exception):
            self.link.run(f"DROP TEMPORARY TABLE IF EXISTS {self.link.quoted(OWN)}")

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests. A second connection reads the rows of half the numbers.

        The server gives each statement one core, and most of the time goes into its expressions.
        """
        whole = next((field.name for field in fields if field.type == "integer"), None)
        if whole is None or marks is not None or self.tables.about(table) < WORTH_TWO:
            return super().of_columns(table, fields, marks)
        even = f"(mod({self.link.quoted(whole, dotted=False)}, 2) = 0)"
        with ThreadPoolExecutor(1) as other:
            half = other.submit(self._half, table, fields, f"{even} IS TRUE")
            rest = self.where(table, fields, f"{even} IS NOT TRUE")
            return add_digests(half.result(), rest)

    def _half(self, table: str, fields: Sequence[Field], where: str) -> list[ColumnDigest]:
        link = self.reconnect()
        try:
            other = type(self)(link, self.tables, self.rows, self.reconnect)
            return other.where(table, fields, where)
        finally:
            link.close()

    def total(self, column: str, field: Field) -> str:
        """See Digests."""
        if field.is_text:
            return f"sum(char_length({column}))"
        expressions = {
            # Days and seconds since the year 0; those of 1970 are taken off.
            "date": f"to_days({column}) - 719528",
            "datetime": f"to_seconds({column}) - 62167219200",
            "time": f"floor(time_to_sec({column}))",
        }
        return f"sum({expressions.get(field.type, column)})"

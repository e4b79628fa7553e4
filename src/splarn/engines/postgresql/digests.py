"""PostgreSQL's digests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import ClassVar

from splarn.core.target.hashing import RowHasher, RowSum
from splarn.core.target.marks import Marks
from splarn.engines.postgresql.hashing import PostgresqlHasher, can_hash, hash_expression
from splarn.engines.postgresql.rows import PostgresqlRows
from splarn.engines.sql.digests import SqlDigests


class PostgresqlDigests(SqlDigests):
    """Digests as the server computes them."""

    rows: PostgresqlRows
    _is_utf8: bool | None = None
    sums: ClassVar[Mapping[str, str]] = {
        "boolean": "{}::int",
        "date": "({} - DATE '1970-01-01')",
        # A double has room for the fractions of these centuries. In others whole seconds come
        # first, which takes twice as long.
        "datetime": "CASE WHEN {0} BETWEEN '1900-01-01' AND '2100-01-01' "
        "THEN floor(date_part('epoch', {0}))::bigint "
        "ELSE date_part('epoch', date_trunc('second', {0}))::bigint END",
        "time": "floor(date_part('epoch', {}))::bigint",
    }

    def text_bytes(self, column: str) -> str:
        """See SqlDigests. A database may keep text in another encoding."""
        text = f"{column}::text" if self.is_utf8 else f"convert_to({column}::text, 'UTF8')"
        return f"octet_length({text})"

    def hasher(self, table: str, names: Sequence[str]) -> RowHasher | None:
        """See Digests. Text is hashed by its bytes, which here are UTF-8."""
        types = self.rows.types(table)
        kinds = [types.get(name, "") for name in names]
        return PostgresqlHasher(names, kinds) if can_hash(kinds) and self.is_utf8 else None

    def row_sum(
        self,
        table: str,
        names: Sequence[str],
        marks: Marks | None = None,
        uncommitted: bool = False,
    ) -> RowSum | None:
        """See Digests."""
        types = self.rows.types(table)
        columns = [self.link.quoted(name, dotted=False) for name in names]
        hashed = hash_expression(columns, [types[name] for name in names])
        where = "" if marks is None else f" WHERE {self.rows.within(table, marks)}"
        with self.link.failing("Reading the rows of", table):
            rows, total = self._asked(
                f"SELECT count(*), sum({hashed}) FROM {self.link.quoted(table)}{where}"
            )
        return RowSum(int(rows), int(total or 0))

    @property
    def is_utf8(self) -> bool:
        """Whether the database keeps text as UTF-8."""
        if self._is_utf8 is None:
            self._is_utf8 = self.link.run("SHOW server_encoding").value == "UTF8"
        return self._is_utf8

    def hash_name(self) -> str:
        """See Digests."""
        return "pg-text"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests."""
        return "hashtextextended(t::text, 0)::numeric"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"{column}::text"

"""PostgreSQL's digests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import ClassVar

from splarn.engines.sql.digests import SqlDigests


class PostgresqlDigests(SqlDigests):
    """Digests as the server computes them."""

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
        if self._is_utf8 is None:
            self._is_utf8 = self.link.run("SHOW server_encoding").value == "UTF8"
        text = f"{column}::text" if self._is_utf8 else f"convert_to({column}::text, 'UTF8')"
        return f"octet_length({text})"

    def hash_name(self) -> str:
        """See Digests."""
        return "pg-text"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests."""
        return "hashtextextended(t::text, 0)::numeric"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"{column}::text"

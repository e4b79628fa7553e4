"""PostgreSQL's digests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import ClassVar

from splarn.engines.sql.digests import SqlDigests


class PostgresqlDigests(SqlDigests):
    """Digests as the server computes them."""

    length = "char_length({}::text)"
    sums: ClassVar[Mapping[str, str]] = {
        "boolean": "{}::int",
        "date": "({} - DATE '1970-01-01')",
        # Whole seconds first: a double has no room for the fractions of the last centuries.
        "datetime": "date_part('epoch', date_trunc('second', {}))::bigint",
        "time": "floor(date_part('epoch', {}))::bigint",
    }

    def hash_name(self) -> str:
        """See Digests."""
        return "pg-text"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests."""
        return "hashtextextended(t::text, 0)::numeric"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"{column}::text"

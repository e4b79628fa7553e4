"""PostgreSQL's digests."""

from __future__ import annotations

from collections.abc import Sequence

from splarn.core.layout import Field
from splarn.engines.sql.digests import SqlDigests


class PostgresqlDigests(SqlDigests):
    """Digests as the server computes them."""

    def hash_name(self) -> str:
        """See Digests."""
        return "pg-text"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests."""
        return "hashtextextended(t::text, 0)::numeric"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"{column}::text"

    def total(self, column: str, field: Field) -> str:
        """See Digests."""
        if field.is_text:
            return f"sum(char_length({column}::text))"
        expressions = {
            "boolean": f"{column}::int",
            "date": f"({column} - DATE '1970-01-01')",
            # Whole seconds first: a double has no room for the fractions of the last centuries.
            "datetime": f"date_part('epoch', date_trunc('second', {column}))::bigint",
            "time": f"floor(date_part('epoch', {column}))::bigint",
        }
        return f"sum({expressions.get(field.type, column)})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See Digests. Booleans have no order of their own."""
        return super().extremes(f"{column}::int" if field.type == "boolean" else column, field)

"""DuckDB's digests."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from splarn.core.layout import Field
from splarn.engines.sql.digests import SqlDigests


class DuckdbDigests(SqlDigests):
    """Digests as DuckDB computes them."""

    def total(self, column: str, field: Field) -> str:
        """See Digests."""
        if field.is_text:
            return f"sum(length({column}::VARCHAR))"
        expressions = {
            "boolean": f"{column}::INTEGER",
            "date": f"date_diff('day', DATE '1970-01-01', {column})",
            "datetime": f"epoch_us(date_trunc('second', {column})) // 1000000",
            "time": f"(hour({column}) * 3600 + minute({column}) * 60 + second({column}))",
        }
        return f"sum({expressions.get(field.type, column)})"

    def extremes(self, column: str, field: Field) -> list[str]:
        """See Digests."""
        return super().extremes(f"{column}::INTEGER" if field.type == "boolean" else column, field)

    def hash_name(self) -> str:
        """See Digests. Another version may hash in another way."""
        import duckdb

        return f"duckdb-{duckdb.__version__}"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests."""
        return f"hash({', '.join(columns)})::HUGEINT"

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"{column}::VARCHAR"

    def _asked(self, statement: str) -> Sequence[Any]:
        found: Sequence[Any] = self.link.run(statement).rows[0]
        return found

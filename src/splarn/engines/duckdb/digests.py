"""DuckDB's digests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from splarn.engines.sql.digests import SqlDigests


class DuckdbDigests(SqlDigests):
    """Digests as DuckDB computes them."""

    sums: ClassVar[Mapping[str, str]] = {
        "boolean": "{}::INTEGER",
        "date": "date_diff('day', DATE '1970-01-01', {})",
        "datetime": "epoch_us(date_trunc('second', {})) // 1000000",
        "time": "(hour({0}) * 3600 + minute({0}) * 60 + second({0}))",
    }

    def text_bytes(self, column: str) -> str:
        """See SqlDigests."""
        return f"strlen({column}::VARCHAR)"

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
        row: Sequence[Any] = self.link.run(statement).rows[0]
        return row

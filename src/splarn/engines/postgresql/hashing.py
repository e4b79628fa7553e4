"""Row hashes as PostgreSQL computes them, by the functions behind its hash indexes.

They have been the same since version 11. Where they were others the sums would differ, and the
columns' digests be asked for instead.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from splarn.core import kernel
from splarn.core.kernel import Source
from splarn.core.target.hashing import RowSum
from splarn.engines.postgresql.binary import can_encode, source
from splarn.engines.sql.row_bytes import flat

# What a decimal below zero adds to its column's seed, since its hash leaves the sign out.
BELOW_ZERO = 1 << 14
_EXPRESSIONS = {
    "smallint": "hashint2extended({}, {seed})",
    "integer": "hashint4extended({}, {seed})",
    "bigint": "hashint8extended({}, {seed})",
    "boolean": "hashint4extended({}::int, {seed})",
    "double precision": "hashfloat8extended({}, {seed})",
    "numeric": "hash_numeric_extended({0}, CASE WHEN {0} < 0 THEN {below} ELSE {seed} END)",
    "date": "hashint4extended({} - DATE '2000-01-01', {seed})",
    "timestamp without time zone": "timestamp_hash_extended({}, {seed})",
    "time without time zone": "time_hash_extended({}, {seed})",
    "uuid": "uuid_hash_extended({}, {seed})",
    # By the bytes alone, whatever the column's own order.
    "text": 'hashtextextended({} COLLATE "C", {seed})',
    "character varying": 'hashtextextended({}::text COLLATE "C", {seed})',
}


def can_hash(types: Sequence[str]) -> bool:
    """Whether rows of columns of these server types can be hashed here."""
    known = all(kind in _EXPRESSIONS for kind in types)
    return kernel.available() and known and len(types) < BELOW_ZERO


def hash_expression(columns: Sequence[str], types: Sequence[str]) -> str:
    """An SQL expression for a row's hash; the columns are quoted."""
    cells = (
        _EXPRESSIONS[kind].format(column, seed=seed, below=seed + BELOW_ZERO)
        for seed, (column, kind) in enumerate(zip(columns, types, strict=True), 1)
    )
    return " # ".join(f"coalesce({cell}, 0)" for cell in cells)


class PostgresqlHasher:
    """Hashes rows of these columns as the server does, which has these types for them."""

    def __init__(self, names: Sequence[str], types: Sequence[str]) -> None:
        self.names, self.types = list(names), list(types)

    def sum_of(self, rows: Any) -> RowSum | None:
        """See RowHasher."""
        taken = rows.select(self.names)
        if not can_encode(taken.schema, self.types):
            return None
        columns = [
            self._seeded(source(flat(column), kind), seed)
            for seed, (column, kind) in enumerate(zip(taken.columns, self.types, strict=True), 1)
        ]
        return RowSum(len(rows), kernel.postgresql_hashes(len(rows), columns))

    def _seeded(self, column: Source, seed: int) -> Source:
        kind, argument, *rest = column
        return kind, argument | seed << 16, *rest

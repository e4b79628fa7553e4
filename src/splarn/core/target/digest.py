"""Column digests: a few figures a column that two copies of the same rows must share."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Context, Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core import kernel
from splarn.core.kernel import source_of
from splarn.core.layout import Field

# Floats are summed in another order by each engine; this share of the sum may differ.
FLOAT_SLACK = 1e-9


@dataclass(frozen=True)
class ColumnDigest:
    """Figures of one column, in forms every engine can compute exactly.

    `sum`, `low` and `high` are whole numbers: integers as they are, decimals times 10 to the scale,
    booleans as 0 and 1, dates in days and datetimes in seconds since 1970 (fractions dropped),
    times in seconds. For text `sum` counts bytes of UTF-8 and `low` and `high` stay None, because
    engines order text differently. For floats all three are floats.
    """

    name: str
    values: int = 0
    nulls: int = 0
    sum: int | float = 0
    low: int | float | None = None
    high: int | float | None = None

    def plus(self, other: ColumnDigest) -> ColumnDigest:
        """The digest of both sets of rows together."""
        return ColumnDigest(
            self.name,
            self.values + other.values,
            self.nulls + other.nulls,
            self.sum + other.sum,
            _pick(min, self.low, other.low),
            _pick(max, self.high, other.high),
        )

    def differences(self, other: ColumnDigest) -> list[str]:
        """What differs, in words, this side named first; empty when nothing does."""
        told = []
        for figure in ("values", "nulls", "sum", "low", "high"):
            mine, theirs = getattr(self, figure), getattr(other, figure)
            if mine != theirs and not _close(mine, theirs):
                told.append(f"{figure} {mine} against {theirs}")
        return told


def _pick(choose: Any, a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else choose(a, b)


def _close(a: Any, b: Any) -> bool:
    if not isinstance(a, float) and not isinstance(b, float):
        return False
    if a != a and b != b:
        # What is no number is the same as another that is none.
        return True
    return a is not None and b is not None and abs(a - b) <= FLOAT_SLACK * max(abs(a), abs(b), 1.0)


def digest_table(table: Any, fields: Iterable[Field]) -> list[ColumnDigest]:
    """Digests of a typed pyarrow table's columns, in field order."""
    return [_digest_column(table.column(field.name), field) for field in fields]


def add_digests(total: list[ColumnDigest] | None, more: list[ColumnDigest]) -> list[ColumnDigest]:
    """Digests of two sets of rows together; None counts as no rows."""
    return more if total is None else [a.plus(b) for a, b in zip(total, more, strict=True)]


def _digest_column(column: Any, field: Field) -> ColumnDigest:
    nulls = column.null_count
    values = len(column) - nulls
    if not values:
        return ColumnDigest(field.name, 0, nulls)
    quick = _quick_figures(column, field) if kernel.available() else None
    if quick is not None:
        return quick
    if field.is_text:
        return ColumnDigest(field.name, values, nulls, pc.sum(pc.binary_length(column)).as_py())
    if field.is_decimal:
        return _digest_decimal(column, field, values, nulls)
    if field.type == "datetime":
        column = pc.floor_temporal(column, unit="second").cast(pa.timestamp("s")).cast(pa.int64())
    elif field.type == "date":
        column = column.cast(pa.int32()).cast(pa.int64())
    elif field.type == "time":
        column = pc.divide(column.cast(pa.int64()), 1_000_000)
    elif field.type in ("boolean", "integer"):
        column = column.cast(pa.int64())
    ends = pc.min_max(column).as_py()
    total = pc.sum(column).as_py() if field.type == "number" else _exact_sum(column, ends)
    return ColumnDigest(field.name, values, nulls, total, ends["min"], ends["max"])


# Whole numbers that a column's values are, by the kernel's kinds.
_KINDS = {"datetime": kernel.STAMP, "time": kernel.TIME, "date": kernel.DATE,
          "boolean": kernel.BOOLEAN}  # fmt: skip


def _quick_figures(column: Any, field: Field) -> ColumnDigest | None:
    """The same by the kernel, where it knows the column's type."""
    total: ColumnDigest | None = None
    for array in column.chunks if isinstance(column, pa.ChunkedArray) else [column]:
        kind, argument = _KINDS.get(field.type, -1), 0
        if field.is_text:
            kind = kernel.TEXT
        elif field.is_decimal:
            kind = kernel.DECIMAL
        elif field.type == "integer":
            kind, argument = kernel.INTEGER, field.bits
        if kind < 0 or array.type != field.arrow_type():
            return None
        found = kernel.figures(len(array), source_of(kind, argument, array))
        if found is None:
            return None
        values, *ends = found
        nulls = len(array) - values
        digest = ColumnDigest(field.name, values, nulls)
        if field.is_text:
            digest = ColumnDigest(field.name, values, nulls, ends[0])
        elif values:
            digest = ColumnDigest(field.name, values, nulls, *ends)
        total = digest if total is None else total.plus(digest)
    return total


def _exact_sum(column: Any, ends: dict[str, int]) -> int:
    largest = max(abs(ends["min"]), abs(ends["max"]))
    if largest * len(column) < 1 << 62:
        return int(pc.sum(column).as_py())
    # 64 bits would overflow: sum the upper and lower halves apart.
    upper = pc.sum(pc.shift_right(column, 32)).as_py()
    lower = pc.sum(pc.bit_wise_and(column, 0xFFFFFFFF)).as_py()
    return (int(upper) << 32) + int(lower)


def _digest_decimal(column: Any, field: Field, values: int, nulls: int) -> ColumnDigest:
    scale = field.scale or 0
    ends = pc.min_max(column).as_py()
    total = pc.sum(column.cast(pa.decimal128(38, scale))).as_py()
    return ColumnDigest(
        field.name,
        values,
        nulls,
        scaled(total, scale),
        scaled(ends["min"], scale),
        scaled(ends["max"], scale),
    )


def scaled(value: Decimal, scale: int) -> int:
    """A decimal times 10 to the scale, exactly; Python's own precision would round at 28 digits."""
    return int(value.scaleb(scale, Context(prec=80)))

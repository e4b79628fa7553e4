"""Figures of columns as engines give them, turned into the whole numbers that digests hold."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest, scaled


def read_digests(found: list[Any], fields: Sequence[Field]) -> list[ColumnDigest]:
    """Digests out of one row: the count of rows, then each field's values, sum and extremes."""
    rows = int(found[0])
    digests = []
    index = 1
    for field in fields:
        values, total = int(found[index]), found[index + 1]
        low = high = None
        index += 2
        if not field.is_text:
            low, high = found[index : index + 2]
            index += 2
        figures = (figure(total or 0, field), figure(low, field), figure(high, field))
        digests.append(ColumnDigest(field.name, values, rows - values, *figures))
    return digests


def figure(value: Any, field: Field) -> Any:
    """An engine's value as the whole number that a digest holds; floats stay floats."""
    if value is None:
        return None
    if field.is_decimal:
        scale = field.scale or 0
        # An engine without decimals gives whole numbers to begin with.
        return scaled(value, scale) if isinstance(value, Decimal) else int(value)
    if field.type == "number":
        return float(value)
    if isinstance(value, str) and field.type in _FROM_TEXT:
        value = _FROM_TEXT[field.type](value)
    if isinstance(value, datetime):
        return (value.replace(tzinfo=None, microsecond=0) - _EPOCH) // timedelta(seconds=1)
    if isinstance(value, date):
        return (value - _EPOCH.date()).days
    if isinstance(value, timedelta):
        return value // timedelta(seconds=1)
    if isinstance(value, time):
        return value.hour * 3600 + value.minute * 60 + value.second
    return int(value)


_EPOCH = datetime(1970, 1, 1)
_FROM_TEXT: dict[str, Any] = {
    "datetime": datetime.fromisoformat,
    "date": date.fromisoformat,
    "time": time.fromisoformat,
}

"""What questions come to, over what was seen of a delivery: values as numbers, and their rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.layout import Field
from splarn.core.scans.look import Look
from splarn.core.scans.questions import Between, Condition, Question, between

# A share of rows is tried with values from so many places of the column's order.
PLACES = (0.1, 0.3, 0.5, 0.7, 0.9)


class Keys:
    """Columns of what was seen as numbers in the order of their values; nulls are not numbers.

    Dates are days since 1970, moments microseconds, texts their places among all that were seen.
    """

    def __init__(self, look: Look, fields: Sequence[Field], names: Sequence[str]) -> None:
        self.weight: Any = look.weight
        self.fields: Mapping[str, Field] = {field.name: field for field in fields}
        self._texts: dict[str, Any] = {}
        self.values: dict[str, Any] = {}
        for name in dict.fromkeys(names):
            column = look.seen.column(name)
            if pa.types.is_string(column.type):
                encoded = column.combine_chunks().dictionary_encode()
                if isinstance(encoded, pa.ChunkedArray):
                    encoded = encoded.combine_chunks()
                texts = np.array(encoded.dictionary.to_pylist() or [""], dtype=object)
                # Statistics of files order texts by their bytes, as their code points are.
                order = np.argsort(texts, kind="stable")
                rank = np.empty(len(texts))
                rank[order] = np.arange(len(texts))
                found = rank[np.asarray(encoded.indices.fill_null(0))]
                self._texts[name] = texts[order]
            else:
                found = numbers(column)
            self.values[name] = np.where(np.asarray(column.is_null()), np.nan, found)

    def bound(self, name: str, value: float | str | None, last: bool) -> float:
        """The number of an end of values; one that was not seen lies between those that were."""
        if value is None:
            return np.inf if last else -np.inf
        if not isinstance(value, str):
            return value
        texts = self._texts[name]
        place = int(np.searchsorted(texts, value))
        return float(place) if place < len(texts) and texts[place] == value else place - 0.5

    def value(self, name: str, number: float) -> float | str | None:
        """The reverse of `bound`, for a value that was seen."""
        if not np.isfinite(number):
            return None
        return str(self._texts[name][int(number)]) if name in self._texts else number


def numbers(column: Any) -> Any:
    """The values of a column that is no text, as floats."""
    kind = column.type
    if pa.types.is_boolean(kind):
        column = column.cast(pa.int8())
    elif pa.types.is_date32(kind):
        column = column.cast(pa.int32())
    elif pa.types.is_timestamp(kind):
        column = column.cast(pa.timestamp("us", kind.tz)).cast(pa.int64())
    elif pa.types.is_time64(kind):
        column = column.cast(pa.int64())
    return np.asarray(pc.fill_null(column.cast(pa.float64(), safe=False), 0.0))


@dataclass(frozen=True)
class Wanted:
    """A question with values: the columns that are read, and by column from where to where.

    `exact` has the one value of a column where a condition is of one alone. `share` is that of the
    rows that fit.
    """

    columns: tuple[str, ...]
    ranges: Mapping[str, tuple[float, float]]
    exact: Mapping[str, float | str]
    share: float


def wanted_of(question: Question, keys: Keys) -> tuple[Wanted, ...]:
    """A question with values, or several alike where it names shares of rows.

    Raises RequestError where a column can have no such value.
    """
    names = question.columns or tuple(keys.fields)
    every = tuple(dict.fromkeys((*names, *(one.column for one in question.conditions))))
    columns = tuple(name for name in keys.fields if name in every)
    shares = [one for one in question.conditions if one.share is not None]
    found = []
    for number in range(len(PLACES) if shares else 1):
        ranges = dict[str, tuple[float, float]]()
        exact = dict[str, float | str]()
        for turn, one in enumerate(question.conditions):
            if one.share is None:
                made = between(one, keys.fields[one.column])
                low = keys.bound(one.column, made.low, False)
                high = keys.bound(one.column, made.high, True)
            else:
                place = PLACES[(number + 2 * turn) % len(PLACES)]
                low, high = _stretch(one, keys, place)
                made = Between(one.column, keys.value(one.column, low),
                               keys.value(one.column, high))  # fmt: skip
            before = ranges.get(one.column, (-np.inf, np.inf))
            ranges[one.column] = (max(before[0], low), min(before[1], high))
            if made.low is not None and made.low == made.high:
                exact[one.column] = made.low
        share = _share(ranges, keys)
        found.append(Wanted(columns, ranges, exact, share))
    return tuple(found)


def _stretch(condition: Condition, keys: Keys, place: float) -> tuple[float, float]:
    """Neighbouring values that have about such a share of the rows, from a place in their order."""
    values = keys.values[condition.column]
    there = ~np.isnan(values)
    if not there.any():
        return np.inf, -np.inf
    known, which = np.unique(values[there], return_inverse=True)
    ends = np.cumsum(np.bincount(which, weights=keys.weight[there])) / keys.weight.sum()
    share = condition.share or 1.0
    first = int(np.searchsorted(ends, place * (1 - share) * ends[-1]))
    first = min(first, len(known) - 1)
    before = ends[first - 1] if first else 0.0
    last = first + int(np.abs(ends[first:] - before - share).argmin())
    return float(known[first]), float(known[last])


def _share(ranges: Mapping[str, tuple[float, float]], keys: Keys) -> float:
    fits = np.ones(len(keys.weight), dtype=bool)
    for name, (low, high) in ranges.items():
        with np.errstate(invalid="ignore"):
            fits &= (keys.values[name] >= low) & (keys.values[name] <= high)
    return float(keys.weight[fits].sum() / max(keys.weight.sum(), 1e-12))

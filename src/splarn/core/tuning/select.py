"""Which of many forecasts are wanted, and in what order."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from splarn.core.errors import RequestError
from splarn.core.tuning.configuration import LEVERS
from splarn.core.tuning.forecast import Spread
from splarn.core.units import parse_duration, tier_units
from splarn.core.work.words import nearest

_CONDITION = re.compile(r"\s*([a-z_ -]+?)\s*(<=|>=|!=|=|<|>)\s*(.+?)\s*")
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "<=": operator.le, ">=": operator.ge, "!=": operator.ne, "=": operator.eq,
    "<": operator.lt, ">": operator.gt,
}  # fmt: skip
_SPANS = {"time": 1, "low": 0, "high": 2}


def columns_of(spread: Spread) -> list[str]:
    """The names by which forecasts can be sorted and chosen."""
    return [*_SPANS, "cost", *spread.phases, *(lever.key for lever in LEVERS.values())]


def values_of(spread: Spread, name: str) -> NDArray[Any]:
    """A column by its name, shape (configurations,). Raises RequestError for an unknown one."""
    name = name.strip().lower().replace(" ", "_").replace("-", "_")
    if name in _SPANS:
        return spread.seconds[:, _SPANS[name]]
    if name == "cost":
        return spread.cost[:, 1]
    if name in spread.phases:
        return spread.phases[name]
    for field, lever in LEVERS.items():
        if name in (lever.key, field):
            values = spread.table.values[field]
            if field == "tier":
                return np.array([tier_units(str(one)) for one in values])[
                    spread.table.places[field]
                ]
            kept = [one if lever.is_number else str(one) for one in values]
            return np.array(kept)[spread.table.places[field]]
    known = columns_of(spread)
    raise RequestError(f"{name!r} is no column{nearest(name, known)}; use {', '.join(known)}.")


def chosen(spread: Spread, conditions: Sequence[str]) -> NDArray[np.bool_]:
    """Which configurations meet all conditions, such as `cost < 2` or `load_streams >= 4`.

    Raises RequestError for one that cannot be read.
    """
    kept = np.ones(spread.table.count, dtype=bool)
    for text in conditions:
        match = _CONDITION.fullmatch(text)
        if match is None:
            raise RequestError(f"{text!r} is no condition; write it like 'cost < 2'.")
        name, sign, wanted = match.groups()
        values = values_of(spread, name)
        kept &= np.asarray(_COMPARE[sign](values, _value(name, wanted, values)), dtype=bool)
    return kept


def _value(name: str, text: str, values: NDArray[Any]) -> Any:
    name = name.strip().lower().replace(" ", "_").replace("-", "_")
    for field, lever in LEVERS.items():
        if name in (lever.key, field):
            if field == "tier":
                return tier_units(text)
            return lever.read(text) if lever.is_number else text
    if name == "cost":
        try:
            return float(text)
        except ValueError:
            raise RequestError(f"{text!r} is no amount of money; write it like 2.5.") from None
    return parse_duration(text)


def order_by(spread: Spread, name: str) -> NDArray[np.int_]:
    """Places in the order of a column, the least first; `-NAME` the other way round."""
    values = values_of(spread, name.removeprefix("-"))
    order = np.argsort(values, kind="stable")
    return order[::-1] if name.startswith("-") else order

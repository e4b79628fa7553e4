"""The frontier: the configurations that no other beats on both time and cost."""

from __future__ import annotations

from typing import Any

import numpy as np


def on_frontier(seconds: Any, cost: Any) -> Any:
    """A mask over two arrays of equal length: True where nothing is both faster and cheaper.

    Of several with the same time and cost, the first is on it.
    """
    seconds, cost = np.asarray(seconds, dtype=float), np.asarray(cost, dtype=float)
    order = np.lexsort((np.arange(len(seconds)), cost, seconds))
    sorted_cost = cost[order]
    best_before = np.concatenate(([np.inf], np.minimum.accumulate(sorted_cost)[:-1]))
    mask = np.zeros(len(seconds), dtype=bool)
    mask[order] = sorted_cost < best_before
    return mask

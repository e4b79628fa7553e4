"""List scheduling: how long parts take on a number of slots (Graham 1969)."""

from __future__ import annotations

import heapq
from collections.abc import Sequence


def list_schedule(times: Sequence[float], slots: int) -> float:
    """The makespan, in the unit of `times`, when each part goes to the slot that is free first."""
    free = [0.0] * max(slots, 1)
    for seconds in times:
        heapq.heapreplace(free, free[0] + seconds)
    return max(free)

"""List scheduling: how long parts take on a number of slots (Graham 1969)."""

from __future__ import annotations

import heapq
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def list_schedule(times: Sequence[float], slots: int) -> float:
    """The makespan, in the unit of `times`, when each part goes to the slot that is free first."""
    free = [0.0] * max(slots, 1)
    for seconds in times:
        heapq.heapreplace(free, free[0] + seconds)
    return max(free)


def even_schedule(full: Floats, last: Floats, parts: Floats, slots: Floats) -> Floats:
    """`list_schedule` of `parts` - 1 equal parts and a last one no longer than they are.

    Seconds; the shapes broadcast. This closed form is exact, because equal parts fill
    the slots in rounds and the last part joins the round that has room.
    """
    rounds, over = np.divmod(np.asarray(parts) - 1, slots)
    return np.where(over == 0, rounds * full + last, (rounds + 1) * full)

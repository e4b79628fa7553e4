"""The order of a sweep's trials: shuffled in blocks around a reference that shows drift."""

from __future__ import annotations

import random
from dataclasses import dataclass

from splarn.core.tuning.configuration import Configuration, Space

# The share of the sample that trials of these roles load; all others load it whole.
SHARES = {"small": 0.25, "large": 4.0}
# The role of a trial without the readers that others have beside them, and of one whose stages are
# at work at the same time.
ALONE, FLOW = "alone", "flow"


def share_of(role: str) -> float:
    """How much of the sample a trial of this role loads, about."""
    return SHARES.get(role, 1.0)


@dataclass(frozen=True)
class PlannedTrial:
    """A trial still to be run; see Trial for `role`."""

    configuration: Configuration
    repeat: int
    role: str


def design(space: Space, repeats: int, seed: int) -> list[PlannedTrial]:
    """A full grid: one warm-up, then each repeat a shuffled block opened by the reference.

    The order depends on the seed alone, so that an interrupted sweep can be gone on with.
    """
    grid = list(space.grid())
    reference = grid[len(grid) // 2]
    shuffle = random.Random(seed)
    planned = [PlannedTrial(reference, 0, "warm-up")]
    for repeat in range(1, repeats + 1):
        block = list(grid)
        shuffle.shuffle(block)
        if len(grid) > 2:
            planned.append(PlannedTrial(reference, repeat, "reference"))
        planned += [PlannedTrial(configuration, repeat, "trial") for configuration in block]
    return planned

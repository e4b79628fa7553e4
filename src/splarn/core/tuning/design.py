"""The order of a sweep's trials: shuffled in blocks around a reference that shows drift."""

from __future__ import annotations

import random
from dataclasses import dataclass

from splarn.core.tuning.configuration import Configuration, Space


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

"""Calls on their way to workers: which were handed over together, and how many more may be."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any

from splarn.core.cluster.crew import Worker

# Calls that last longer than this, in seconds, are handed over one by one; shorter ones so many
# together that they last about as long as is WORTH.
SHORT, WORTH, MOST_TOGETHER = 0.1, 0.4, 64
# A worker has one lot ahead, so that it does not wait for the next, unless calls last longer than
# this: then waiting is little, and to have one beside a slow worker would be much. Nor has it where
# so few are left for each that another one may be free sooner.
LONG, LEFT = 2.0, 2
# So many have ended before it is known how long they last.
FEW = 3


@dataclass(eq=False)
class Placed:
    """A task on its way, its result for `future`. One that is `retried` is tried `again`."""

    number: int
    run: Callable[[Any], Any]
    task: Any
    label: str
    limit: Limit
    future: Future[Any]
    handed: Handed | None = None
    lost: int = 0
    overtaken: int = 0
    retried: bool = False
    amount: float = 0.0
    rows: int = 0
    at: str = ""
    told: float = 0.0
    told_rows: int = 0
    stopped: bool = False


@dataclass(eq=False)
class Handed:
    """Calls that a worker was given together, to be carried out one after the other.

    `order` counts what was handed over.
    """

    calls: tuple[Placed, ...]
    worker: Worker
    order: int
    theirs: Any = None

    @property
    def may_have_begun(self) -> bool:
        """Whether its worker was at it: others wait behind what they were given before."""
        before = sum(1 for other in self.worker.calls if other.order < self.order)
        return before < self.worker.threads


@dataclass(eq=False)
class Limit:
    """How many workers of one pool are at work at once, and the calls that wait for one."""

    most: int
    machines: int | None = None
    waiting: deque[Placed] = field(default_factory=deque)
    running: set[Handed] = field(default_factory=set)
    seconds: deque[float] = field(default_factory=lambda: deque(maxlen=30))

    @property
    def usual(self) -> float:
        """Seconds that calls last, as far as that is known."""
        known = len(self.seconds) >= FEW
        return sorted(self.seconds)[len(self.seconds) // 2] if known else math.inf

    @property
    def together(self) -> int:
        """Calls that a worker is given at once: more where they take less than being given."""
        usual = self.usual
        return 1 if usual > SHORT else min(int(WORTH / max(usual, 1e-4)), MOST_TOGETHER)

    @property
    def ahead(self) -> int:
        """How many lots a worker may have besides the one that it is at work on."""
        usual = self.usual
        return int(usual <= SHORT or (usual <= LONG and len(self.waiting) > LEFT * self.most))

"""What is known of a run while it lasts: how far each stage is, and what it is through with."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from splarn.core.work.progress import Lane


@dataclass(frozen=True)
class PartDone:
    """A part that a stage is through with: bytes on disk, and what it took there."""

    stage: str
    part: str
    bytes: int
    rows: int
    seconds: float


@dataclass(frozen=True)
class Stand:
    """How far a stage is: the share of its work that is done, and the seconds that it was at it."""

    share: float
    seconds: float


class StageWatch:
    """How far one stage is; see Progress. `done` and `total` are unpacked bytes, or the source's.

    `label` is what it is at, where that is no more its own work: verify, finish.
    """

    def __init__(self, name: str, total: float) -> None:
        self.name, self.total, self.label = name, total, name
        self.done = 0.0
        self.ended = False
        self._lock = threading.Lock()

    def start(self, label: str, total: float | None, unit: str) -> None:
        """See Progress. Where the total is not known it is that of the plan."""
        self.label = label
        if label == self.name and total and unit == "bytes":
            self.total = total

    def advance(self, amount: float) -> None:
        """See Progress."""
        with self._lock:
            self.done += amount

    def lanes(self, lanes: Sequence[Lane]) -> None:
        """See Progress."""

    def tell(self, text: str) -> None:
        """See Progress."""

    def status(self, text: str) -> None:
        """See Progress."""

    def finish(self) -> None:
        """See Progress."""
        self.ended = True

    @property
    def share(self) -> float:
        """How much of its work is done."""
        return 1.0 if self.ended else min(self.done / max(self.total, 1.0), 1.0)


class Watching:
    """All stages of one run; `heard` is told of each part and of each step, by any thread."""

    def __init__(
        self, total: float, heard: Callable[[str, dict[str, Any]], None] = lambda what, told: None
    ) -> None:
        self.total, self.heard = total, heard
        self.begun = time.perf_counter()
        self.stages: dict[str, StageWatch] = {}
        # How many parts wait before a stage, and how long it was at work.
        self.waiting: dict[str, Callable[[], int]] = {}
        self.active: dict[str, Callable[[], float]] = {}
        # Seconds since it began by a clock of the target's own, which may be ahead of ours.
        self.by_target = 0.0
        # Called after each part, by whoever may change how the run goes on.
        self.steer: Callable[[], object] = lambda: None

    def begin(self) -> None:
        """The run begins now; what was made ready before is none of its time."""
        self.begun = time.perf_counter()

    def stage(self, name: str) -> StageWatch:
        """The watcher of a stage."""
        return self.stages.setdefault(name, StageWatch(name, self.total))

    def through(self, done: PartDone) -> None:
        """A stage is through with a part."""
        self.heard("part", asdict(done))
        self.steer()

    @property
    def elapsed(self) -> float:
        """Seconds since it began."""
        return max(time.perf_counter() - self.begun, self.by_target)

    def stands(self) -> dict[str, Stand]:
        """How far each stage is."""
        return {
            name: Stand(one.share, self.active[name]() if name in self.active else self.elapsed)
            for name, one in self.stages.items()
        }

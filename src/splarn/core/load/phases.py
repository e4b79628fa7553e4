"""How long the phases of a load took, by the clock of the engine that measures them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field


@dataclass
class PhaseTimer:
    """Moments of a load as they come, in seconds of a clock: begun when this is made.

    `first` is when the first row was on its way, `last` when the last one was in. Sizing a compute
    `up` and `down`, and `sending` files, are phases of their own within those moments.
    """

    clock: Callable[[], float]
    begun: float = field(init=False)
    first: float = field(init=False)
    last: float = field(init=False)
    ended: float = field(init=False)

    def __post_init__(self) -> None:
        self.begun = self.first = self.last = self.ended = self.clock()

    def rows_begin(self) -> None:
        """The streams begin."""
        self.first = self.clock()

    def rows_end(self, first: float | None = None, last: float | None = None) -> None:
        """All rows are in. An engine that read files itself says when it began and ended."""
        self.last = self.clock() if last is None else last
        if first is not None:
            self.first = first

    def end(self) -> None:
        """The load is noted as done."""
        self.ended = self.clock()

    @property
    def seconds(self) -> float:
        """The whole load."""
        return self.ended - self.begun

    def phases(self, up: float, down: float, sending: float, handed: bool) -> dict[str, float]:
        """Seconds by phase; ship and size only of loads that were `handed` over."""
        return {
            **({"ship": sending, "size": up + down} if handed else {}),
            "queue": max(self.first - self.begun - sending - up, 0.0),
            "load": self.last - self.first,
            "finish": max(self.ended - self.last - down, 0.0),
        }

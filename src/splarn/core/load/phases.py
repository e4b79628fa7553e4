"""How long the phases of a load took, by the clock of the engine that measures them."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

from splarn.core.target.handover import WholeFiles


@dataclass
class PhaseTimer:
    """Moments of a load as they come, in seconds of a clock: begun when this is made.

    `first` is when the first row was on its way, `last` when the last one was in. Sizing a compute
    `up` and `down`, and `sending` files, are phases of their own within those moments. `opened` is
    when parts could come, where they arrive meanwhile: what is waited for then is no queue but
    for the seconds `waited` until the first one is let in.
    """

    clock: Callable[[], float]
    begun: float = field(init=False)
    first: float = field(init=False)
    last: float = field(init=False)
    ended: float = field(init=False)
    opened: float | None = field(init=False, default=None)
    waited: float = field(init=False, default=0.0)

    def __post_init__(self) -> None:
        self.begun = self.first = self.last = self.ended = self.clock()
        self._begun_here = time.perf_counter()

    def catch_up(self, files: WholeFiles | None) -> None:
        """Lets as much time go by at an engine with a clock of its own as has gone by here.

        Parts were made meanwhile, and it had nothing to do.
        """
        behind = time.perf_counter() - self._begun_here - (self.clock() - self.begun)
        if files is not None and behind > 0:
            files.let_pass(behind)

    def open(self) -> None:
        """The load is open, and parts may come."""
        self.opened = self.clock()

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

    def phases(
        self,
        up: float,
        down: float,
        sending: float | None,
        sized: bool,
        loading: float | None = None,
    ) -> dict[str, float]:
        """Seconds by phase; ship only where files are sent to an inbox, size where it was `sized`.

        `loading` is for how long rows came in, where that was not without a break.
        """
        until = self.first - (sending or 0.0) - up if self.opened is None else self.opened
        return {
            **({"ship": sending} if sending is not None else {}),
            **({"size": up + down} if sized else {}),
            "queue": max(until - self.begun, 0.0) + self.waited,
            "load": self.last - self.first if loading is None else loading,
            "finish": max(self.ended - self.last - down, 0.0),
        }

"""The compute and the clock of a described engine, where its statements tell of them."""

from __future__ import annotations

import time
from collections.abc import Callable

from splarn.core.errors import OutsideError
from splarn.core.target.handover import Size
from splarn.engines.described.link import DescribedLink
from splarn.engines.sql.link import Concern, Link

# What an answer says where the compute runs.
RUNNING = ("1", "t", "true", "y", "yes", "running", "started")
# How long a compute may take to start or to change its size, and between two looks, in seconds.
PATIENCE, LOOK_EVERY = 900.0, 0.1


class DescribedClock(Concern):
    """The engine's own clock, asked once and then counted on; ours where it tells of none."""

    link: DescribedLink

    def __init__(self, link: Link) -> None:
        super().__init__(link)
        self.ahead = 0.0
        statement = self.link.description.statements.clock
        if statement:
            before = time.perf_counter()
            with self.link.failing("Asking the clock of", self.link.place):
                told = self.link.say(statement)
                self.link.commit()
            try:
                self.ahead = float(told.value) - (before + time.perf_counter()) / 2
            except (TypeError, ValueError):
                raise self.link.unreadable("statements.clock", "a number", told) from None

    def now(self) -> float:
        """The moment, in seconds."""
        return time.perf_counter() + self.ahead


class DescribedCompute(Concern):
    """See Compute."""

    link: DescribedLink

    def size(self) -> Size:
        """See Compute."""
        told = self.link.description.statements
        with self.link.failing("Asking the size of", self.link.place):
            answer = self.link.say(told.size)
        if not answer.rows:
            raise self.link.unreadable("statements.size", "the tier, and whether it runs", answer)
        row = answer.rows[0]
        running = len(row) < 2 or str(row[1]).strip().lower() in RUNNING
        tiers = tuple(told.tiers) or (str(row[0]),)
        return Size(str(row[0]), tiers, running)

    def resize(self, tier: str) -> None:
        """See Compute. Engines answer at once and change their size meanwhile, so it is asked."""
        ran = self.size().running
        with self.link.failing("Changing the size of", self.link.place):
            self.link.say(self.link.description.statements.resize, tier=tier)
            self.link.commit()
        self._await(
            lambda size: size.tier == tier and (size.running or not ran), f"is not {tier} yet"
        )

    def start(self) -> None:
        """Starts a compute that does not run, where there is a statement for it."""
        statement = self.link.description.statements.start
        if not statement or self.size().running:
            return
        with self.link.failing("Starting", self.link.place):
            self.link.say(statement)
            self.link.commit()
        self._await(lambda size: size.running, "does not run yet")

    def _await(self, is_so: Callable[[Size], bool], lacking: str) -> None:
        until = time.monotonic() + PATIENCE
        while not is_so(self.size()):
            # Each look is a transaction of its own, so that it sees what became of it.
            self.link.commit()
            if time.monotonic() > until:
                raise OutsideError(
                    f"{self.link.place} {lacking}, {PATIENCE:.0f} s after it was told to be: look "
                    f"there, or mend statements.size of {self.link.description.path}."
                )
            time.sleep(LOOK_EVERY)
        self.link.commit()

"""The reckoning: what was used, item by item, times what it costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from splarn.core.prices.pricelist import Prices, Tier, tier_of

MONTH = 730 * 3600.0
DAY = 86_400.0


@dataclass(frozen=True)
class Stretch:
    """A time without resizing: its tier and seconds. `starts` owes the tier's minimum.

    That is where compute was started, or made larger; going back to a smaller one starts nothing.
    """

    tier: str
    seconds: float
    starts: bool = True


@dataclass(frozen=True)
class Usage:
    """What a piece of work used. `stored` are bytes in a depot, `moved` bytes sent or fetched.

    `machine` are seconds of the loading machine, of all together where there are several; `scanned`
    bytes that the engine read.
    """

    compute: tuple[Stretch, ...] = ()
    machine: float = 0.0
    stored: float = 0.0
    requests: float = 0.0
    moved: float = 0.0
    scanned: float = 0.0

    def on(self, machines: int) -> Usage:
        """The same done by so many machines, which are all paid for as long as it lasts."""
        return replace(self, machine=self.machine * machines)


@dataclass(frozen=True)
class Cost:
    """An amount by item, in the price list's currency."""

    compute: float = 0.0
    machine: float = 0.0
    storage: float = 0.0
    requests: float = 0.0
    transfer: float = 0.0
    scans: float = 0.0

    @property
    def total(self) -> float:
        """All items together."""
        return float(sum(asdict(self).values()))

    def as_json(self) -> dict[str, float]:
        """The items by name, and their total."""
        return {**asdict(self), "total": self.total}


def billed_seconds(tier: Tier, busy: Any, starts: bool = True, ends: bool = True) -> Any:
    """Seconds that are paid for `busy` ones: a start's own, its minimum, the tail, steps filled up.

    Without `starts` there is no start-up, nor a minimum that is owed on starts; without `ends`
    there is no tail.
    """
    seconds = np.asarray(busy) + (tier.idle_tail if ends else 0)
    if starts:
        seconds = seconds + tier.start_up
    if starts or tier.minimum_on == "size":
        seconds = np.maximum(seconds, tier.minimum)
    # A hair under a step's end, so that 60.0000001 from arithmetic is not a further step.
    return np.ceil(seconds / tier.billing_step - 1e-9) * tier.billing_step


def merged(stretches: Sequence[Stretch]) -> tuple[Stretch, ...]:
    """The same without stretches of no length, neighbours of one tier joined."""
    joined: list[Stretch] = []
    for one in stretches:
        if joined and joined[-1].tier == one.tier:
            last = joined[-1]
            joined[-1] = Stretch(one.tier, last.seconds + one.seconds, last.starts)
        elif one.seconds > 0:
            joined.append(one)
    return tuple(joined)


def reckon(prices: Prices, usage: Usage) -> Cost:
    """The cost of what was used.

    Each stretch is billed by its own tier, in whole steps of its own. Stored bytes are charged for
    the days that parts are kept.
    Raises RequestError for a tier that the price list does not have.
    """
    compute = 0.0
    stretches = merged(usage.compute)
    for index, one in enumerate(stretches):
        tier = tier_of(prices, one.tier)
        last = index == len(stretches) - 1
        paid = float(billed_seconds(tier, one.seconds, one.starts, last))
        compute += paid / 3600 * tier.per_hour
    return Cost(
        compute,
        usage.machine / 3600 * prices.machine_per_hour,
        usage.stored / 1e9 * prices.keep_days * DAY / MONTH * prices.storage_gb_month,
        usage.requests / 1000 * prices.thousand_requests,
        usage.moved / 1e9 * prices.gb_moved,
        usage.scanned / 1e12 * prices.tb_scanned,
    )

"""What loads will cost, item by item, by the same reckoning that bills them afterwards."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.prices import Prices, Usage, billed_seconds, reckon, tier_of
from splarn.core.tuning.columns import MB, Columns, Floats, Table, added
from splarn.core.tuning.laws import PHASES
from splarn.core.tuning.trial import Trial

# Phases in which the rented compute is in use.
BUSY_PHASES = tuple(phase.name for phase in PHASES if phase.rents)
ITEMS = ("compute", "machine", "storage", "requests", "transfer", "scans")


@dataclass(frozen=True)
class Traffic:
    """What trials show of what is paid by the piece, and of how compute is used.

    `moved` and `stored` are bytes a packed byte, `requests` those a part, `scanned` bytes an
    unpacked one. `sized` says that the compute is given another size for a load, `starts` that it
    is started for one.
    """

    moved: float = 0.0
    stored: float = 0.0
    requests: float = 0.0
    scanned: float = 0.0
    sized: bool = False
    starts: bool = True

    @classmethod
    def of(cls, trials: Sequence[Trial]) -> Traffic:
        """What these trials show."""
        packed = max(sum(trial.packed_bytes for trial in trials), 1)
        usages = [trial.usage for trial in trials]
        sized = any("size" in trial.phases and trial.compute for trial in trials)
        started = [trial.compute[0].starts for trial in trials if trial.compute]
        resting = [
            one for trial, one in zip(trials, started, strict=False) if not trial.phases.get("size")
        ]
        return cls(
            sum(one.moved for one in usages) / packed,
            sum(one.stored for one in usages) / packed,
            sum(one.requests for one in usages) / max(sum(trial.parts for trial in trials), 1),
            sum(one.scanned for one in usages) / max(sum(trial.bytes for trial in trials), 1),
            sized,
            not sized or sum(resting) * 2 > len(resting),
        )


def costs_of(
    table: Table,
    columns: Columns,
    seconds: Mapping[str, Floats],
    prices: Prices,
    traffic: Traffic,
    resting_tier: str | None,
    total: Floats | None = None,
) -> dict[str, Floats]:
    """Costs by item of loads whose phases take so many `seconds`, shape (configurations, draws).

    `total` is what they take together, the sum of them where None.
    Raises RequestError for a tier that the price list does not have.
    """
    total = added(seconds.values()) if total is None else total
    packed = columns.total_mb * MB * columns.packed
    used = Usage(
        machine=1.0, stored=traffic.stored, moved=traffic.moved, requests=traffic.requests,
        scanned=traffic.scanned,
    )  # fmt: skip
    unit = reckon(prices, used)
    return {
        "compute": _compute(table, seconds, prices, traffic, resting_tier),
        "machine": total * unit.machine * columns.machines,
        "storage": packed * unit.storage,
        "requests": columns.parts * unit.requests,
        "transfer": packed * unit.transfer,
        "scans": columns.total_mb * MB * unit.scans,
    }


def _compute(
    table: Table,
    seconds: Mapping[str, Floats],
    prices: Prices,
    traffic: Traffic,
    resting_tier: str | None,
) -> Floats:
    """What compute costs. One that is made larger loads at its price and finishes at the other."""
    busy = added(seconds[phase] for phase in BUSY_PHASES if phase in seconds)
    if traffic.sized and not traffic.stored:
        # What is sent to its own door arrives while it runs.
        busy = busy + seconds.get("ship", 0.0)
    cost = np.zeros(np.broadcast_shapes(busy.shape, (table.count, 1)), busy.dtype)
    tiers, which = table.each(("tier",), str)
    for place, name in enumerate(tiers):
        rows = which == place
        tier = tier_of(prices, name)
        if not traffic.sized or name == resting_tier or resting_tier is None:
            paid = billed_seconds(tier, busy[rows], traffic.starts) * tier.per_hour
        else:
            after = seconds["finish"][rows]
            rest = tier_of(prices, resting_tier)
            paid = billed_seconds(tier, busy[rows] - after, True, False) * tier.per_hour
            paid = paid + billed_seconds(rest, after, False) * rest.per_hour
        cost[rows] = paid / 3600
    return cost

"""What each tier gave for its money: time, cost, speed-up and efficiency from trials."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from statistics import median

from splarn.core.prices import Prices, reckon
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.trial import Trial
from splarn.core.units import tier_units


@dataclass(frozen=True)
class TierRow:
    """Medians of one tier's trials. `seconds` and `load_seconds` are in seconds.

    `speed_up` is how many times as fast as the smallest tier it loaded, `efficiency` that over how
    many times as large it is (Amdahl 1967 has it fall), `cost_ratio` the same of the cost.
    """

    tier: str
    seconds: float
    load_seconds: float
    cost: float
    speed_up: float
    efficiency: float
    cost_ratio: float


def by_tier(trials: Sequence[Trial], prices: Prices) -> tuple[Configuration, list[TierRow]] | None:
    """One row a tier, smallest first, for the other levers with which loading was fastest.

    None where trials have one tier only. Raises RequestError for a tier without a price.
    """
    groups: dict[Configuration, dict[str, list[Trial]]] = defaultdict(lambda: defaultdict(list))
    for trial in trials:
        if trial.counts:
            bare = replace(trial.configuration, tier="")
            groups[bare][trial.configuration.tier].append(trial)
    most = max((len(tiers) for tiers in groups.values()), default=0)
    if most < 2:
        return None
    # Only levers that were tried on every tier tell tiers apart.
    whole = {bare: tiers for bare, tiers in groups.items() if len(tiers) == most}
    bare, tiers = min(
        whole.items(), key=lambda pair: min(median(map(_load, group)) for group in pair[1].values())
    )
    names = sorted(tiers, key=tier_units)
    cost = {name: median(reckon(prices, one.usage).total for one in tiers[name]) for name in names}
    load = {name: median(map(_load, tiers[name])) for name in names}
    first = names[0]
    rows = []
    for name in names:
        speed_up = load[first] / max(load[name], 1e-9)
        larger = max(tier_units(name), 1) / max(tier_units(first), 1)
        rows.append(
            TierRow(
                name,
                median(one.seconds for one in tiers[name]),
                load[name],
                cost[name],
                speed_up,
                speed_up / larger,
                cost[name] / cost[first] if cost[first] else 0.0,
            )
        )
    return bare, rows


def _load(trial: Trial) -> float:
    return trial.phases["load"]

"""The decision: the choice out of a whole space, how sure it is, and what else would do."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any

import numpy as np

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Table, Volume
from splarn.core.tuning.configuration import Space
from splarn.core.tuning.forecast import MANY, Forecast, forecast, spread_of
from splarn.core.tuning.model import Model
from splarn.core.tuning.plan import Choice, Limits, choose
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.sensitivity import DRAWS, sensitivity
from splarn.core.units import show_duration

# So many of very many configurations are forecast one by one, the best and the likeliest to fit.
SHORTLIST = 400
# So many others are held against the choice.
RIVALS = 60


def choice_of(
    model: Model,
    space: Space,
    volume: Volume,
    prices: Prices,
    limits: Limits,
    joining: float = 0.0,
) -> Choice:
    """The choice of the whole space; of very many configurations by way of a short list.

    Where there is more than one machine, a cluster is joined first, in so many seconds; the
    forecasts of the choice are without them.
    """
    table = Table.of_space(space)
    every: Any = range(table.count)
    counts = None
    if table.count > MANY:
        spread = spread_of(
            model, table, volume, prices,
            deadline=limits.deadline, budget=limits.budget,
        )  # fmt: skip
        good = spread.chance >= limits.confidence
        by = spread.cost[:, 1] if limits.deadline is not None else spread.seconds[:, 1]
        best = np.argsort(np.where(good, by, np.inf))[: SHORTLIST // 2]
        likely = np.argsort(-spread.chance, kind="stable")[: SHORTLIST // 4]
        # What is said where nothing keeps the limits is of the fastest and of the cheapest.
        ends = [np.argsort(one[:, 1])[: SHORTLIST // 8] for one in (spread.seconds, spread.cost)]
        every = np.unique(np.concatenate((best, likely, *ends))).tolist()
        counts = int(good.sum()), table.count
    configurations = [table.at(place) for place in every]
    told = forecast(model, configurations, volume, prices)
    if not joining:
        return choose(told, limits, prices.currency, counts)
    known = {one.configuration: one for one in told}
    choice = choose(
        [one.later(joining) if one.configuration.machines > 1 else one for one in told],
        limits, prices.currency, counts,
    )  # fmt: skip
    ranked = tuple(known[one.configuration] for one in choice.ranked)
    return replace(choice, chosen=ranked[0], ranked=ranked)


def sureness(
    model: Model, choice: Choice, volume: Volume, prices: Prices, limits: Limits
) -> list[str]:
    """Which unknown could overturn the choice, and what would settle it."""
    if not choice.meets_limits or choice.runner_up is None:
        return []
    others = [one.configuration for one in choice.ranked[1 : RIVALS + 1]]
    told = sensitivity(model, choice.chosen.configuration, others, Aim(volume, limits, prices))
    if told.rival is None:
        return [
            f"In none of {DRAWS} draws of what the trials leave open would one of the "
            f"{len(others)} next best be better by 2 % or more."
        ]
    why = f", most of all if {told.unknown}" if told.unknown else ""
    return [
        f"In {1 - told.chance:.1%} of what the trials leave open one of the {len(others)} next "
        f"best would be better by 2 % or more, mostly {told.rival}{why}; a trial of {told.trial} "
        "would tell most about it."
    ]


def joined_first(joining: float) -> str:
    """What is said where a cluster is joined before the work, in so many seconds."""
    return (
        f"Joining the cluster took {show_duration(joining)} in the sweep, which is counted here, "
        "and is no part of the phases."
    )


def starting(chosen: Forecast, limits: Limits, joining: float = 0.0) -> str:
    """When it has to begin at the latest, if something takes so many seconds before."""
    assert limits.ends is not None, "asked for only where there is a time of the day"
    needs = joining + float(np.quantile(chosen.draws, limits.confidence, method="higher"))
    latest = limits.ends - timedelta(seconds=needs)
    return (
        f"To end by {limits.ends:%H:%M} with that chance it must begin by {latest:%H:%M:%S}, on "
        f"{latest:%Y-%m-%d}."
    )


def alternatives_of(
    model: Model, space: Space, chosen: Forecast, volume: Volume, prices: Prices
) -> tuple[dict[str, Any], ...]:
    """What a run may change to: other load streams or tiers, with their forecasts."""
    found = []
    for lever in ("load_streams", "tier"):
        for value in space.values[lever]:
            one = replace(chosen.configuration, **{lever: value})
            if one != chosen.configuration and space.allows(one):
                found.append((lever, value, one))
    told = forecast(model, [one for _, _, one in found], volume, prices)
    return tuple(
        {
            "lever": lever, "value": value, "seconds": one.seconds.median,
            "load": one.phases["load"], "size": one.phases.get("size", 0.0),
            "cost": one.cost.median,
        }
        for (lever, value, _), one in zip(found, told, strict=True)
    )  # fmt: skip

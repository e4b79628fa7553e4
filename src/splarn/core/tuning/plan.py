"""The choice: one configuration under a deadline and a budget, with the reasons."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np

from splarn.core.errors import RequestError
from splarn.core.tuning.configuration import LEVERS
from splarn.core.tuning.forecast import Forecast
from splarn.core.units import show_duration, show_money

# Two configurations whose medians differ by less are as good as one another.
TIE = 0.01


@dataclass(frozen=True)
class Limits:
    """What the load must keep to: seconds, money, and the chance asked for.

    `ends` is the time of the day by which it has to end, where that is what was said.
    """

    deadline: float | None = None
    budget: float | None = None
    confidence: float = 0.9
    ends: datetime | None = None

    def as_json(self) -> dict[str, Any]:
        """The limits by name."""
        return {
            "deadline": self.deadline,
            "budget": self.budget,
            "confidence": self.confidence,
            **({} if self.ends is None else {"ends": self.ends.isoformat(timespec="minutes")}),
        }


@dataclass(frozen=True)
class Choice:
    """The chosen forecast. `chance` is that of keeping all limits; None without limits.

    `reasons` are sentences; `ranked` are the configurations that keep the limits, best first.
    """

    chosen: Forecast
    meets_limits: bool
    chance: float | None
    reasons: tuple[str, ...]
    ranked: tuple[Forecast, ...]

    @property
    def runner_up(self) -> Forecast | None:
        """The next best configuration, if there is one."""
        return self.ranked[1] if len(self.ranked) > 1 else None


# How much less time is asked the price of, and what share of a deadline at most.
LESS, MOST_LESS = 3600.0, 0.25


def choose(
    forecasts: Sequence[Forecast],
    limits: Limits,
    currency: str,
    counts: tuple[int, int] | None = None,
) -> Choice:
    """Cheapest within the deadline, fastest within the budget, fastest of all without limits.

    A configuration keeps its limits when the chance that it does is at least the confidence.
    `counts` are how many keep them and how many there are, where only some are forecast here.
    Raises RequestError when there is nothing to choose from.
    """
    if not forecasts:
        raise RequestError("There is no configuration to choose from: give the space some values.")
    chances = [chance_of(forecast, limits) for forecast in forecasts]
    keeping = [
        forecast
        for forecast, chance in zip(forecasts, chances, strict=True)
        if chance is None or chance >= limits.confidence
    ]
    if not keeping:
        best = max(
            zip(chances, forecasts, strict=True),
            key=lambda pair: (pair[0] or 0, -_overshoot(pair[1], limits)),
        )
        ranked = [best[1]]
    else:
        ranked = _ranked(keeping, limits)
    chosen = ranked[0]
    chance = chance_of(chosen, limits)
    kept, total = counts or (len(keeping), len(forecasts))
    reasons = (
        _why(chosen, limits, chance, bool(keeping), max(kept, len(keeping)), total, currency),
        _what_binds(chosen, forecasts),
        *([_next_best(chosen, ranked[1], currency)] if len(ranked) > 1 else []),
        *_beyond(chosen, limits, chance),
        *(_less(chosen, forecasts, limits, currency) if keeping else ()),
        *(() if keeping else _would_fit(forecasts, limits, currency)),
        *([_extrapolated(chosen)] if chosen.extrapolated else []),
    )
    return Choice(chosen, bool(keeping), chance, reasons, tuple(ranked))


def chance_of(forecast: Forecast, limits: Limits) -> float | None:
    """The chance of keeping every limit at once, from the same draws."""
    if limits.deadline is None and limits.budget is None:
        return None
    kept = np.ones(len(forecast.draws), dtype=bool)
    if limits.deadline is not None:
        kept &= forecast.draws <= limits.deadline
    if limits.budget is not None:
        kept &= forecast.cost_draws <= limits.budget
    return float(kept.mean())


def _overshoot(forecast: Forecast, limits: Limits) -> float:
    """How many times over the limit the median is that is furthest over its own."""
    over = [0.0]
    if limits.deadline is not None:
        over.append(forecast.seconds.median / max(limits.deadline, 1e-9))
    if limits.budget is not None:
        over.append(forecast.cost.median / max(limits.budget, 1e-9))
    return max(over)


def _ranked(forecasts: Sequence[Forecast], limits: Limits) -> list[Forecast]:
    def time_then_cost(forecast: Forecast) -> tuple[float, float]:
        return (_stepped(forecast.seconds.median), forecast.cost.median)

    def cost_then_time(forecast: Forecast) -> tuple[float, float]:
        return (_stepped(forecast.cost.median), forecast.seconds.median)

    by_cost = limits.deadline is not None
    return sorted(forecasts, key=cost_then_time if by_cost else time_then_cost)


def _stepped(value: float) -> float:
    """Values within the tie come out equal."""
    return 0.0 if value <= 0 else round(float(np.log(value)) / TIE)


def _why(
    chosen: Forecast,
    limits: Limits,
    chance: float | None,
    kept: bool,
    keeping: int,
    total: int,
    currency: str,
) -> str:
    takes = (
        f"{show_duration(chosen.seconds.median)} ({show_duration(chosen.seconds.low)} to "
        f"{show_duration(chosen.seconds.high)}) for {show_money(chosen.cost.median, currency)}"
    )
    if chance is None:
        of = f"the fastest of {total} configurations" if total > 1 else "the only configuration"
        return f"It is {of}: {takes}."
    wanted = " and ".join(
        text
        for text in (
            f"in {show_duration(limits.deadline)}" if limits.deadline is not None else "",
            f"for {show_money(limits.budget, currency)}" if limits.budget is not None else "",
        )
        if text
    )
    if not kept:
        return (
            f"No configuration ends {wanted} with a chance of {limits.confidence:.0%}; this one "
            f"comes closest with {chance:.1%}: {takes}."
        )
    quality = "cheapest" if limits.deadline is not None else "fastest"
    sure = f"with a chance of at least {limits.confidence:.0%} (this one {chance:.0%})"
    if total == 1:
        return f"It ends {wanted} {sure}: {takes}."
    if keeping == 1:
        return f"It is the only one of {total} configurations that ends {wanted} {sure}: {takes}."
    which = f"all {total}" if keeping == total else f"the {keeping} of {total}"
    return f"It is the {quality} of {which} configurations that end {wanted} {sure}: {takes}."


def _what_binds(chosen: Forecast, forecasts: Sequence[Forecast]) -> str:
    phase = chosen.binding_phase
    share = chosen.phases[phase] / max(sum(chosen.phases.values()), 1e-9)
    text = f"The {phase} phase binds, with {share:.0%} of the time"
    best: tuple[float, str, str] | None = None
    for other in forecasts:
        changed = [
            name
            for name in LEVERS
            if getattr(other.configuration, name) != getattr(chosen.configuration, name)
        ]
        if len(changed) == 1:
            gain = chosen.seconds.median - other.seconds.median
            if best is None or gain > best[0]:
                best = (gain, LEVERS[changed[0]].words, other.configuration.show(changed[0]))
    if best is None or best[0] <= TIE * chosen.seconds.median:
        return f"{text}; no single lever of the space would make it faster."
    gain, lever, value = best
    return f"{text}; the next best lever is {lever} at {value}, which would save " + (
        f"{show_duration(gain)}."
    )


def _next_best(chosen: Forecast, other: Forecast, currency: str) -> str:
    slower = other.seconds.median - chosen.seconds.median
    dearer = other.cost.median - chosen.cost.median
    time_word = f"{show_duration(abs(slower))} {'more' if slower >= 0 else 'less'}"
    cost_word = f"{show_money(abs(dearer), currency)} {'more' if dearer >= 0 else 'less'}"
    if abs(slower) < 0.005 * chosen.seconds.median:
        time_word = "as long"
    if abs(dearer) < 0.005 * chosen.cost.median or not dearer:
        cost_word = "as much"
    return f"The runner-up ({other.configuration}) would take {time_word} and cost {cost_word}."


def _beyond(chosen: Forecast, limits: Limits, chance: float | None) -> list[str]:
    """What the interval means where it reaches past a deadline that is kept all the same."""
    if limits.deadline is None or chance is None or chance < limits.confidence:
        return []
    if chosen.seconds.high <= limits.deadline:
        return []
    late = float((chosen.draws > limits.deadline).mean())
    return [
        f"The 90 % interval reaches past the deadline, to {show_duration(chosen.seconds.high)}: "
        f"by the model {late:.0%} of such loads take longer than "
        f"{show_duration(limits.deadline)}; ask for a higher --confidence if that is too many."
    ]


def _extrapolated(chosen: Forecast) -> str:
    return (
        f"Take care: no trial covered its {', '.join(chosen.extrapolated)}, so the forecast "
        "reaches beyond what was measured."
    )


def _at(forecast: Forecast, confidence: float) -> tuple[float, float]:
    """The seconds and the money that are enough with such a chance, each by itself."""
    seconds, cost = (
        np.quantile(draws, confidence, method="higher")
        for draws in (forecast.draws, forecast.cost_draws)
    )
    return float(seconds), float(cost)


def _less(
    chosen: Forecast, forecasts: Sequence[Forecast], limits: Limits, currency: str
) -> list[str]:
    """What an hour less would cost, or a quarter of the deadline where that is shorter."""
    if limits.deadline is None or not chosen.cost.median:
        return []
    less = min(LESS, MOST_LESS * limits.deadline)
    sooner = replace(limits, deadline=limits.deadline - less)
    fitting = [one for one in forecasts if (chance_of(one, sooner) or 0) >= limits.confidence]
    sooner_by = show_duration(less)
    if chosen in fitting:
        return [f"It would also keep a deadline that is {sooner_by} sooner."]
    if not fitting:
        return [f"No configuration would keep a deadline that is {sooner_by} sooner."]
    best = min(fitting, key=lambda one: one.cost.median)
    more = best.cost.median - chosen.cost.median
    return [
        f"To end {sooner_by} sooner would cost {show_money(more, currency)} more: "
        f"{best.configuration}."
    ]


def _would_fit(forecasts: Sequence[Forecast], limits: Limits, currency: str) -> list[str]:
    """What would have to change where nothing keeps the limits."""
    needs = [(*_at(one, limits.confidence), one) for one in forecasts]
    found = []
    affordable = [need for need in needs if limits.budget is None or need[1] <= limits.budget]
    if limits.deadline is not None and affordable:
        seconds, _, one = min(affordable, key=lambda need: need[0])
        found.append(f"in {show_duration(seconds)} ({one.configuration})")
    in_time = [need for need in needs if limits.deadline is None or need[0] <= limits.deadline]
    if limits.budget is not None and in_time:
        _, cost, one = min(in_time, key=lambda need: need[1])
        found.append(f"for {show_money(cost, currency)} ({one.configuration})")
    if not found:
        fastest, cheapest = min(need[0] for need in needs), min(need[1] for need in needs)
        return [
            f"With a chance of {limits.confidence:.0%} none takes less than "
            f"{show_duration(fastest)}, and none costs less than {show_money(cheapest, currency)}."
        ]
    return [f"With a chance of {limits.confidence:.0%} it would be done {' or '.join(found)}."]

"""The plan: one configuration chosen under a deadline and a budget, with the reasons."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from splarn.core.check.limit import BadRows
from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import from_descriptor, to_descriptor
from splarn.core.prices import Prices, make_prices
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.forecast import Forecast
from splarn.core.units import show_duration, show_money
from splarn.core.work.disk import write_text

# Two configurations whose medians differ by less are as good as one another.
TIE = 0.01


@dataclass(frozen=True)
class Limits:
    """What the load must keep to: seconds, money, and the chance asked for."""

    deadline: float | None = None
    budget: float | None = None
    confidence: float = 0.9

    def as_json(self) -> dict[str, Any]:
        """The limits by name."""
        return {
            "deadline": self.deadline,
            "budget": self.budget,
            "confidence": self.confidence,
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


@dataclass(frozen=True)
class Plan:
    """Everything that `run` needs to carry the choice out, as kept in the plan file.

    `target` and `depot` are URLs as the user wrote them, their secrets still `${NAME}`; without a
    depot nothing is shipped.
    """

    id: str
    configuration: Configuration
    forecast: dict[str, Any]
    limits: Limits
    meets_limits: bool
    reasons: tuple[str, ...]
    sources: tuple[str, ...]
    layout: Layout
    target: str
    table: str
    table_mode: str
    bad_rows: BadRows
    volume: Volume
    source_bytes: int
    prices: Prices
    sweep: str
    depot: str = ""


def choose(forecasts: Sequence[Forecast], limits: Limits, currency: str) -> Choice:
    """Cheapest within the deadline, fastest within the budget, the frontier's knee without limits.

    A configuration keeps its limits when the chance that it does is at least the confidence.
    Raises RequestError when there is nothing to choose from.
    """
    if not forecasts:
        raise RequestError("There is no configuration to choose from: give the space some values.")
    chances = [_chance(forecast, limits) for forecast in forecasts]
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
    chance = _chance(chosen, limits)
    reasons = (
        _why(chosen, limits, chance, bool(keeping), len(keeping), len(forecasts), currency),
        _what_binds(chosen, forecasts),
        *([_next_best(chosen, ranked[1], currency)] if len(ranked) > 1 else []),
        *_beyond(chosen, limits, chance),
        *([_extrapolated(chosen)] if chosen.extrapolated else []),
    )
    return Choice(chosen, bool(keeping), chance, reasons, tuple(ranked))


def _chance(forecast: Forecast, limits: Limits) -> float | None:
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


def write_plan(plan: Plan, path: Path) -> None:
    """Writes the plan file.

    Raises OutsideError when the disk refuses.
    """
    document = {
        "splarn_plan": 1,
        "id": plan.id,
        "configuration": plan.configuration.as_json(),
        "forecast": plan.forecast,
        "limits": plan.limits.as_json(),
        "meets_limits": plan.meets_limits,
        "reasons": list(plan.reasons),
        "source": list(plan.sources),
        "layout": to_descriptor(plan.layout),
        "target": {
            "url": plan.target,
            "table": plan.table,
            "table_mode": plan.table_mode,
            "bad_row_limit": plan.bad_rows.as_json(),
        },
        "volume": asdict(plan.volume),
        "source_bytes": plan.source_bytes,
        "prices": plan.prices.model_dump(),
        "sweep": plan.sweep,
        "depot": plan.depot,
    }
    write_text(path, json.dumps(document, indent=1, ensure_ascii=False) + "\n")


def read_plan(path: Path) -> Plan:
    """Reads a plan file.

    Raises RequestError when it is missing or no plan.
    """
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
        if document["splarn_plan"] != 1:
            raise RequestError(f"{path} was written by a newer Splarn: update Splarn.")
        target = document["target"]
        return Plan(
            id=document["id"],
            configuration=Configuration.from_json(document["configuration"]),
            forecast=document["forecast"],
            limits=Limits(**document["limits"]),
            meets_limits=bool(document["meets_limits"]),
            reasons=tuple(document["reasons"]),
            sources=tuple(document["source"]),
            layout=from_descriptor(document["layout"], str(path)),
            target=target["url"],
            table=target["table"],
            table_mode=target["table_mode"],
            bad_rows=BadRows.read(target["bad_row_limit"]),
            volume=Volume(**document["volume"]),
            source_bytes=int(document["source_bytes"]),
            prices=make_prices(document["prices"], str(path)),
            sweep=document["sweep"],
            depot=document.get("depot", ""),
        )
    except FileNotFoundError:
        raise RequestError(f"There is no plan {path}: write one with `splarn plan`.") from None
    except (OSError, KeyError, TypeError, ValueError) as error:
        raise RequestError(
            f"{path} is not a plan written by `splarn plan` ({type(error).__name__}: {error}): "
            "write a new one."
        ) from None

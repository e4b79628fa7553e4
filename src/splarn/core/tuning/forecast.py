"""Forecasts: time and cost of configurations at a volume, each a distribution."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from splarn.core.prices import Prices
from splarn.core.target.levers import LOAD_LEVERS, way_of_writing
from splarn.core.tuning.columns import Columns, Floats, Places, Table, Volume, added
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.frontier import on_frontier
from splarn.core.tuning.model import Measured, Model
from splarn.core.tuning.overlap import overlapped
from splarn.core.tuning.places import Kinds
from splarn.core.tuning.whatif import AS_IT_IS, WhatIf
from splarn.core.work.pools import usable_cores

# Draws of a forecast, and of each where there are more configurations than that.
DRAWS = 400
MANY, FEWER_DRAWS = 4000, 48
# So many configurations are worked on at once, which bounds the memory.
CHUNK = 4096
SEED = 20
# What laws may leave out at volumes that nobody tried: spread of the log total for each tenfold.
BEYOND = 0.02
# And for each doubling of what is at work at once, or of a part, beyond what was tried.
BEYOND_LEVER = 0.03
# And for each doubling of machines beyond those tried: a network, a store or a target may be at its
# end there, or have been far from it, and no trial can tell.
BEYOND_MACHINES = 0.3
# And where nothing like it was tried: laws that held elsewhere may not hold there.
UNLIKE = 0.05
# How much of a trial's spread lasts as long as a run; the rest averages out.
LASTS = 0.8
# Half of a normal 90 % interval, in standard deviations.
Z90 = 1.645


@dataclass(frozen=True)
class Span:
    """A median with its 90 % interval."""

    low: float
    median: float
    high: float

    def as_json(self) -> dict[str, float]:
        """The three figures by name."""
        return {"low": self.low, "median": self.median, "high": self.high}

    def later(self, seconds: float) -> Span:
        """The same, each so much more."""
        return Span(self.low + seconds, self.median + seconds, self.high + seconds)


@dataclass(frozen=True)
class Forecast:
    """What one configuration will take. `phases` are median seconds, `costs` medians by item.

    `seconds` are with all stages at work at the same time, as `run` does it, `in_turn` with one
    after the other. `extrapolated` names the levers that no trial covered. `draws` are the sampled
    totals (seconds) and costs that `plan` takes its chances from.
    """

    configuration: Configuration
    seconds: Span
    cost: Span
    phases: dict[str, float]
    costs: dict[str, float]
    extrapolated: tuple[str, ...]
    on_frontier: bool
    draws: Floats
    cost_draws: Floats
    in_turn: Span

    def as_json(self) -> dict[str, Any]:
        """Everything but the draws."""
        return {
            "configuration": self.configuration.as_json(),
            "seconds": self.seconds.as_json(),
            "cost": self.cost.as_json(),
            "phases": self.phases,
            "cost_items": self.costs,
            "overlapped": self.seconds.as_json(),
            "in_turn": self.in_turn.as_json(),
            "extrapolated": bool(self.extrapolated),
            "extrapolated_levers": list(self.extrapolated),
            "on_frontier": self.on_frontier,
        }

    def later(self, seconds: float) -> Forecast:
        """The same after something that takes so long."""
        return replace(
            self,
            seconds=self.seconds.later(seconds),
            draws=self.draws + seconds,
            in_turn=self.in_turn.later(seconds),
        )

    @property
    def binding_phase(self) -> str:
        """The phase that takes the longest."""
        return max(self.phases, key=lambda phase: self.phases[phase])


@dataclass(frozen=True)
class Spread:
    """Forecasts of many configurations as columns; shapes (n, 3) are low, median and high.

    `chance` is that of keeping limits, where there are some.
    """

    table: Table
    seconds: Floats
    cost: Floats
    phases: dict[str, Floats]
    chance: Floats
    on_frontier: NDArray[np.bool_]


class Forecaster:
    """What a model says of configurations at one volume; the same draws whatever is asked."""

    def __init__(
        self,
        model: Model,
        volume: Volume,
        prices: Prices,
        *,
        kinds: Kinds,
        what_if: WhatIf = AS_IT_IS,
        draws: int = DRAWS,
    ) -> None:
        self.model, self.kinds, self.what_if, self.draws = model, kinds, what_if, draws
        self.volume = what_if.volume(volume)
        self.prices = what_if.prices(prices)
        random = np.random.default_rng(SEED)
        ratio = max(self.volume.bytes, 1) / max(model.measured.bytes, 1)
        decades = max(float(np.log10(ratio)), 0.0)
        lasting = LASTS + (1 - LASTS) / max(ratio, 1.0)
        # A volume that is an estimate makes every phase as uncertain as it is itself.
        self._of_volume = self.volume.error / Z90 * random.standard_normal(draws)
        self._of_run = random.standard_normal(draws)
        # What trials were off by, foretold by the others, lasts.
        widened = model.spread * (model.width**2 - 1) ** 0.5
        far = np.hypot(BEYOND * decades, UNLIKE * model.elsewhere)
        self._spread = np.hypot(np.hypot(model.spread * lasting**0.5, widened), far)
        self._luck = random.standard_normal(draws)
        self._thetas = {
            one.law.phase.name: what_if.theta(one.law, one.draws(draws, random))
            for one in model.phases
        }
        self._sharing = model.sharing.draws(draws, random)

    def phases(self, table: Table) -> dict[str, tuple[Floats, Places]]:
        """Seconds of each phase and who has which, without what lasts as long as a run."""
        told = self.model.seconds(
            table, self.volume, self._thetas, self.kinds, SEED + 1, self._luck
        )
        return {
            name: (self.what_if.seconds(name, few), which) for name, (few, which) in told.items()
        }

    def spread(self, table: Table, columns: Columns) -> Floats:
        """How far whole runs are off, a spread of logs; shape (configurations, 1)."""
        unlike = UNLIKE * self.model.unlike(table, self.volume, self.kinds)
        most = max(map(float, self.model.tried.values["machines"]))
        machines = BEYOND_MACHINES * np.log2(np.maximum(columns.machines / most, 1))
        far = np.hypot(np.hypot(unlike, BEYOND_LEVER * self.model.beyond(columns)), machines)
        found: Floats = np.hypot(self._spread, far)
        return found

    def total(self, columns: Columns, by_phase: Mapping[str, Floats]) -> Floats:
        """Seconds with all stages at work at the same time; shape (configurations, draws)."""
        share = self._sharing.astype(next(iter(by_phase.values())).dtype)
        return overlapped(columns, by_phase, share)

    def of_run(self, spread: Floats) -> Floats:
        """What a whole run is off by, a factor; shape (configurations, draws)."""
        found: Floats = np.exp(spread * self._of_run + self._of_volume)
        return found


def forecast(
    model: Model,
    configurations: Sequence[Configuration],
    volume: Volume,
    prices: Prices,
    what_if: WhatIf = AS_IT_IS,
) -> list[Forecast]:
    """Forecasts in the order of the configurations; stages follow one another, so times add.

    Raises RequestError for a tier that the price list does not have.
    """
    if not configurations:
        return []
    table = Table.of(configurations)
    teller = Forecaster(model, volume, prices, kinds=model.kinds(table), what_if=what_if)
    columns = model.columns(table, teller.volume)
    off = teller.of_run(teller.spread(table, columns))
    by_phase = {name: few[which] * off for name, (few, which) in teller.phases(table).items()}
    total = teller.total(columns, by_phase)
    items = model.costs(table, columns, by_phase, teller.prices, total)
    cost = sum(items.values(), np.zeros_like(total))
    spans, cost_spans, in_turn = map(_spans, (total, cost, added(by_phase.values())))
    medians = {phase: np.median(seconds, axis=1) for phase, seconds in by_phase.items()}
    paid = {
        item: np.median(np.broadcast_to(values, total.shape), axis=1)
        for item, values in items.items()
    }
    front = on_frontier(spans[:, 1], cost_spans[:, 1])
    return [
        Forecast(
            configuration=configuration,
            seconds=Span(*spans[index].tolist()),
            cost=Span(*cost_spans[index].tolist()),
            phases={phase: float(values[index]) for phase, values in medians.items()},
            costs={item: float(values[index]) for item, values in paid.items()},
            extrapolated=outside_measured(configuration, model.measured),
            on_frontier=bool(front[index]),
            draws=total[index],
            cost_draws=cost[index],
            in_turn=Span(*in_turn[index].tolist()),
        )
        for index, configuration in enumerate(configurations)
    ]


def spread_of(
    model: Model,
    table: Table,
    volume: Volume,
    prices: Prices,
    *,
    deadline: float | None = None,
    budget: float | None = None,
    what_if: WhatIf = AS_IT_IS,
) -> Spread:
    """Forecasts of any number of configurations in bounded memory.

    Raises RequestError for a tier that the price list does not have.
    """
    draws = DRAWS if table.count <= MANY else FEWER_DRAWS
    kinds = model.kinds(table)
    teller = Forecaster(model, volume, prices, kinds=kinds, what_if=what_if, draws=draws)
    # Single precision is far finer than what is known, and half as much to move.
    told: dict[str, tuple[Any, Places]] = {
        name: (few.astype(np.float32), which) for name, (few, which) in teller.phases(table).items()
    }
    seconds, cost = np.empty((table.count, 3)), np.empty((table.count, 3))
    middle = {name: np.median(few, axis=1)[which] for name, (few, which) in told.items()}
    chance = np.ones(table.count)
    every = model.columns(table, teller.volume)
    spread: Any = teller.spread(table, every).astype(np.float32)

    def told_of(first: int) -> None:
        here = slice(first, first + CHUNK)
        few = table.take(here)
        off: Any = teller.of_run(spread[here]).astype(np.float32)
        by_phase = {name: values[which[here]] * off for name, (values, which) in told.items()}
        columns = every.take(here)
        total = teller.total(columns, by_phase)
        paid = added(model.costs(few, columns, by_phase, teller.prices, total).values())
        seconds[here], cost[here] = _spans(total), _spans(paid)
        kept = np.ones(total.shape, dtype=bool)
        if deadline is not None:
            kept &= total <= deadline
        if budget is not None:
            kept &= paid <= budget
        chance[here] = kept.mean(axis=1)

    # Arrays are worked on outside the interpreter, so threads share them out.
    with ThreadPoolExecutor(usable_cores()) as threads:
        list(threads.map(told_of, range(0, table.count, CHUNK)))
    front = on_frontier(seconds[:, 1], cost[:, 1])
    return Spread(table, seconds, cost, middle, chance, front)


def _spans(values: Floats) -> Floats:
    """Low, median and high of each row; the order statistics nearest to 5, 50 and 95 %."""
    count = values.shape[1]
    places = [round(share * (count - 1)) for share in (0.05, 0.5, 0.95)]
    found: Floats = np.partition(values, places, axis=1)[:, places]
    return found


def outside_measured(configuration: Configuration, measured: Measured) -> tuple[str, ...]:
    """The levers, in words, whose value lies outside what trials covered."""
    words = []
    for name, lever in LEVERS.items():
        if name in LOAD_LEVERS:
            # These are measured together.
            continue
        value = getattr(configuration, name)
        if lever.is_number:
            low, high = measured.spans[name]
            covered = low <= value <= high
        else:
            covered = str(value) in measured.names[name]
        if not covered:
            words.append(lever.words)
    if way_of_writing(configuration) not in measured.ways:
        words.append("way of writing")
    return tuple(words)

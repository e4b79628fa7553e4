"""Runs held against one another: a difference is called one when there is one, and else not."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from splarn.core.prices import Prices
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Table, Volume
from splarn.core.tuning.comparison import Measure, Side, compare, effects
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.discrepancy import learn
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.places import kinds_of, places_of
from splarn.core.tuning.trial import Trial
from tests.core.test_model import SPACE, Machine

VOLUME = Volume(16e6, 160_000)


def side(
    name: str,
    random: np.random.Generator,
    runs: int,
    seconds: float,
    noise: float,
    rows: float = 1e6,
) -> Side:
    took = seconds * np.exp(random.normal(0, noise, runs))
    measures = (Measure(float(t), {"load": float(t) * 0.9, "finish": 0.001}, rows) for t in took)
    return Side(name, tuple(measures))


def test_a_difference_is_called_one_when_there_is_one() -> None:
    random = np.random.default_rng(7)
    called, found, held = 0, 0, 0
    for _ in range(300):
        first = side("a", random, 5, 60.0, 0.06)
        called += compare(first, side("b", random, 5, 60.0, 0.06)).whole.differs
        slower = compare(first, side("c", random, 5, 78.0, 0.06)).whole
        found += slower.differs
        held += slower.low <= 1.3 <= slower.high
    # The intervals are meant to hold the truth in nine of ten.
    assert called <= 0.14 * 300
    assert found >= 0.95 * 300
    assert held >= 0.85 * 300


def test_single_runs_tell_only_what_no_usual_scatter_explains() -> None:
    random = np.random.default_rng(1)
    first = side("a", random, 1, 60.0, 0.0)
    assert not compare(first, side("b", random, 1, 66.0, 0.0)).whole.differs
    assert compare(first, side("c", random, 1, 120.0, 0.0)).whole.differs


def test_other_volumes_are_compared_a_row_and_tiny_phases_not_at_all() -> None:
    random = np.random.default_rng(2)
    first = side("a", random, 4, 60.0, 0.01)
    found = compare(first, side("b", random, 4, 120.0, 0.01, rows=2e6))
    assert found.per_row and abs(found.whole.ratio - 1) < 0.05
    assert set(found.phases) == {"load"}


def test_sweeps_are_compared_by_the_configurations_both_have() -> None:
    def measures(machine: Machine, slower: float) -> tuple[Measure, ...]:
        trials = [trial for trial in machine.trials(SPACE, VOLUME, 1) if trial.counts]
        return tuple(Measure(t.seconds * slower, t.phases, t.rows, t.configuration) for t in trials)

    first = Side("a", measures(Machine(1, 0.03), 1.0), {"target": "x", "machine": "m"})
    other = Side("b", measures(Machine(2, 0.03), 1.15), {"target": "y", "machine": "m"})
    found = compare(first, other)
    assert found.matched == SPACE.size
    assert found.whole.differs and found.whole.low < 1.15 < found.whole.high
    assert found.different == (("target", "x", "y"),)


def test_what_a_lever_does_is_found_from_pairs_and_by_the_laws() -> None:
    machine = Machine(3, noise=0.02)
    trials = machine.trials(SPACE, VOLUME, 2)
    # Where no more than one in seven is left there are no pairs to speak of.
    few = [trial for number, trial in enumerate(trials) if number % 7 == 0]
    for some, measured in ((trials, True), (few, False)):
        steps = {(one.lever, one.was, one.now): one for one in effects(some)}
        step = steps["load_streams", "1", "2"]
        assert (step.pairs > 0) is measured
        one, two = (
            [sum(machine.phases(c, VOLUME).values()) for c in SPACE.grid() if c.load_streams == n]
            for n in (1, 2)
        )
        truth = math.exp(np.mean(np.log(one)) - np.mean(np.log(two)))
        assert step.speed.low * 0.97 < truth < step.speed.high * 1.03


def test_what_no_law_knows_is_learned_where_it_was_seen() -> None:
    machine = Machine(4, noise=0.02)

    def odd(trial: Trial) -> Trial:
        # Large parts with many rows a batch take three times as long to load.
        c = trial.configuration
        if c.batch_rows < 50_000 or c.part_size < 4_000_000:
            return trial
        phases = {**trial.phases, "load": trial.phases["load"] * 3}
        return Trial(**{**trial.__dict__, "phases": phases, "seconds": sum(phases.values())})

    trials = [odd(trial) for trial in machine.trials(SPACE, VOLUME, 2)]
    model = fit_model(trials)
    forecasts = forecast(model, list(SPACE.grid()), VOLUME, Prices())
    found = {one.configuration: one for one in forecasts}
    for trial in trials:
        if trial.counts:
            off = math.log(found[trial.configuration].seconds.median / trial.seconds)
            assert abs(off) < 0.25


def places_at(configurations: list[Configuration]) -> Any:
    table = Table.of(configurations)
    return places_of(table, [Volume(1e9, 1e7)], kinds_of(table))


def test_laws_that_hold_are_left_alone() -> None:
    places = places_at(list(SPACE.grid()))
    noise = np.random.default_rng(5).normal(0, 0.03, len(places))
    learned = learn(places, noise)
    assert learned.size <= 0.04
    far = Configuration(
        part_size=1 << 30, packing=Packing(), workers=64, load_streams=64, batch_rows=0
    )
    # Nothing is said of what lies far from all that was tried.
    assert abs(float(learned.at(places_at([*SPACE.grid(), far])[-1:])[0])) < 0.02


def test_errors_are_drawn_as_likely_as_they_are() -> None:
    places = places_at(list(SPACE.grid()))
    random = np.random.default_rng(3)
    wave = 0.3 * np.sin(places[:, 0] * 2) + random.normal(0, 0.03, len(places))
    known = np.arange(len(places)) % 3 > 0
    learned = learn(places[known], wave[known])
    assert learned.size >= 0.08
    drawn = learned.draws(places, 2000, random)
    assert np.abs(drawn.mean(axis=1) - learned.at(places)).max() < 0.05
    low, high = np.quantile(drawn, [0.05, 0.95], axis=1)
    assert np.mean((low - 0.05 <= wave) & (wave <= high + 0.05)) > 0.8

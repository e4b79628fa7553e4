"""Forecasts held against worlds whose truth is known, and what is decided with them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np
import pytest
from benchmarks.decide import measured_here
from benchmarks.worlds import MONTHS, PRICES, SMALL, SPACE, WHOLE, WORLDS, Worldly
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.prices import reckon
from splarn.core.tuning.clock import parse_deadline
from splarn.core.tuning.columns import Table, Volume
from splarn.core.tuning.configuration import Rule, Space
from splarn.core.tuning.design import PlannedTrial
from splarn.core.tuning.doubts import calibrated, doubts, smoothed
from splarn.core.tuning.evidence import ANOTHER_PLACE, RUN, Evidence, looseness
from splarn.core.tuning.explain import causes, findings
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import Forecast, forecast, spread_of
from splarn.core.tuning.model import Model
from splarn.core.tuning.outgrow import increments, outgrown
from splarn.core.tuning.overlap import STAGES, overlapped
from splarn.core.tuning.plan import Limits, choose
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.select import chosen, order_by, values_of
from splarn.core.tuning.sensitivity import sensitivity
from splarn.core.tuning.strategy import grid
from splarn.core.tuning.trial import Trial
from splarn.core.tuning.variants import variants
from splarn.core.tuning.whatif import WhatIf


def learned(world: str, seed: int = 0) -> tuple[Worldly, list[Trial], Model]:
    there = Worldly(WORLDS[world], seed)
    trials = there.sweep(grid(SMALL, 1, seed).following)
    return there, trials, calibrated(fit_model(trials, measured_here()), trials)


@pytest.fixture(scope="module")
def usual() -> tuple[Worldly, list[Trial], Model]:
    return learned("as it comes")


@pytest.mark.parametrize("world", ["as it comes", "slow line into the engine", "dear commits"])
def test_loads_of_twenty_times_the_trials_are_foretold(world: str) -> None:
    there, trials, model = learned(world)
    tried = {trial.configuration for trial in trials}
    every = [one for one in SPACE.grid() if one not in tried][::23]
    told = forecast(model, every, WHOLE, PRICES)
    off, paid, inside = [], [], []
    for one in told:
        truth = there.load(PlannedTrial(one.configuration, 1, "trial"), WHOLE, MONTHS)
        off.append(one.in_turn.median / truth.seconds - 1)
        paid.append(one.cost.median / reckon(PRICES, truth.usage).total - 1)
        inside.append(one.in_turn.low <= truth.seconds <= one.in_turn.high)
        assert one.cost.median == pytest.approx(sum(one.costs.values()), rel=0.03)
    assert np.median(np.abs(off)) < 0.05
    assert np.quantile(np.abs(off), 0.9) < 0.13
    assert np.median(np.abs(paid)) < 0.05
    assert np.mean(inside) > 0.8
    # A codec that no trial had is known by its packed size and speed here.
    untried = [o for o, one in zip(off, told, strict=True) if "gzip" in str(one.configuration)]
    assert np.median(np.abs(untried)) < 0.08


def test_a_whole_load_makes_the_next_forecast_right(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    there, trials, _ = usual
    for place in (41, 200, 333, 640):
        learns(there, trials, list(SPACE.grid())[place])


def learns(there: Worldly, trials: list[Trial], one: Any) -> None:
    first = there.load(PlannedTrial(one, 1, "run"), WHOLE, MONTHS)
    evidence = Evidence()
    evidence.add(trials, 1.0)
    evidence.add([first], RUN)
    model = fit_model(evidence.trials, measured_here(), evidence.loose)
    again = there.load(PlannedTrial(one, 1, "run"), WHOLE, MONTHS)
    told = forecast(model, [one], WHOLE, PRICES)[0].in_turn.median
    assert told == pytest.approx(again.seconds, rel=0.04)
    assert evidence.runs == 1
    assert evidence.without_runs().trials == trials


def test_evidence_is_weighed_by_where_it_was_measured() -> None:
    here = {"machine": "2 cores", "engine": "A 1"}
    assert looseness(here, dict(here), run=True) == RUN
    assert looseness(here, {**here, "engine": "A 2"}, run=True) == ANOTHER_PLACE
    assert 1 < looseness(here, dict(here)) < ANOTHER_PLACE
    assert looseness(here, {**here, "readers": 2}) == ANOTHER_PLACE
    assert looseness({**here, "readers": 0}, dict(here), run=True) == RUN


def test_trials_of_a_worse_day_do_not_spoil_what_better_ones_say(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    _, trials, model = usual

    def slower(trial: Trial) -> Trial:
        phases = {phase: seconds * 1.6 for phase, seconds in trial.phases.items()}
        return replace(trial, phases=phases, seconds=sum(phases.values()))

    evidence = Evidence()
    evidence.add(trials, 1.0)
    evidence.add([slower(trial) for trial in trials[:10]], ANOTHER_PLACE)
    mixed = fit_model(evidence.trials, measured_here(), evidence.loose)
    few = list(SPACE.grid())[::97]
    for was, now in zip(
        forecast(model, few, WHOLE, PRICES), forecast(mixed, few, WHOLE, PRICES), strict=True
    ):
        assert now.seconds.median == pytest.approx(was.seconds.median, rel=0.1)


def test_causes_add_up_and_parameters_are_those_of_the_world(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    there, _, model = usual
    one = next(iter(SMALL.grid()))
    pieces = causes(model, one, WHOLE)
    told = forecast(model, [one], WHOLE, PRICES)[0]
    assert sum(piece.seconds for piece in pieces) == pytest.approx(told.in_turn.median, rel=0.1)
    assert all(piece.seconds >= 0 for piece in pieces)
    said = {(one.phase, one.words): one for one in findings(model)}
    part = said["load", "a part costs {} before its first row"]
    assert part.low <= there.world.engine.overhead <= part.high
    assert part.told
    line = said["load", "all streams together take no less than {} for a MB"]
    assert (line.told, line.would_tell) == (False, "load streams")


def test_laws_are_held_against_smaller_ones() -> None:
    _, trials, model = learned("dear commits")
    told = {one.words: one for one in variants(model, [one for one in trials if one.tells])}
    assert told["making batches durable"].needed
    assert not told["the table growing"].needed
    assert told["the table growing"].gain == pytest.approx(0, abs=1)
    assert not told["workers slowing one another"].needed


def test_what_does_not_follow_the_laws_is_said(usual: tuple[Worldly, list[Trial], Model]) -> None:
    _, trials, model = usual
    assert doubts(model) == []

    def odd(trial: Trial, number: int) -> Trial:
        # Every third trial waits for something that has nothing to do with any lever.
        phases = {**trial.phases, "load": trial.phases["load"] * (1 + 0.8 * (number % 3 == 0))}
        return replace(trial, phases=phases, seconds=sum(phases.values()), part_seconds=())

    spoiled = [odd(trial, number) for number, trial in enumerate(trials)]
    wide = calibrated(fit_model(spoiled, measured_here()), spoiled)
    few = list(SMALL.grid())[:4]
    for one, other in zip(
        forecast(model, few, WHOLE, PRICES), forecast(wide, few, WHOLE, PRICES), strict=True
    ):
        ratio = other.seconds.high / other.seconds.low
        assert ratio > 1.1 * one.seconds.high / one.seconds.low

    def humps(trial: Trial) -> Trial:
        seconds = [1.0 if place % 5 < 3 else 2.2 for place in range(trial.parts)]
        return replace(trial, part_seconds=tuple(seconds))

    two = fit_model([humps(trial) for trial in trials], measured_here())
    assert any("two kinds" in one for one in doubts(two))


@given(st.lists(st.floats(-30, 0), min_size=40, max_size=200))
def test_smoothed_weights_are_weights(logs: list[float]) -> None:
    weights, shape = smoothed(np.array(logs))
    assert weights.sum() == pytest.approx(1.0)
    assert (weights >= 0).all()
    assert not math.isnan(shape)


def test_weights_of_a_heavy_tail_are_not_relied_on() -> None:
    random = np.random.default_rng(1)
    assert smoothed(random.normal(0, 0.3, 400))[1] < 0.5
    assert smoothed(random.normal(0, 6, 400))[1] > 0.7


def test_many_configurations_are_told_as_few_are(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    _, _, model = usual
    streams = list(range(1, 25))
    large = Space.of({
        **SPACE.values, "load_streams": streams, "transfer_streams": [0, 1, 2, 4],
    }).without([Rule("few", lambda one: one.load_streams < 3, ("load_streams",))])  # fmt: skip
    table = Table.of_space(large)
    assert table.count == sum(1 for _ in large.grid()) > 4000
    assert [table.at(place) for place in (0, 77, table.count - 1)] == [
        list(large.grid())[place] for place in (0, 77, table.count - 1)
    ]
    spread = spread_of(model, table, WHOLE, PRICES, deadline=60)
    some = [int(place) for place in np.linspace(0, table.count - 1, 40)]
    told = forecast(model, [table.at(place) for place in some], WHOLE, PRICES)
    off = [
        spread.seconds[place, 1] / one.seconds.median - 1
        for place, one in zip(some, told, strict=True)
    ]
    assert abs(np.mean(off)) < 0.03
    for place, one in zip(some, told, strict=True):
        assert spread.seconds[place, 1] == pytest.approx(one.seconds.median, rel=0.12)
        assert spread.cost[place, 1] == pytest.approx(one.cost.median, rel=0.15)
        assert abs(spread.chance[place] - (one.draws <= 60).mean()) < 0.25
    kept = chosen(spread, ["load_streams >= 8", "tier = u3", "time < 2m", "codec = zstd:1"])
    assert kept.any()
    for place in np.flatnonzero(kept)[:20].tolist():
        one = table.at(place)
        assert (one.load_streams >= 8, one.tier, str(one.packing)) == (True, "u3", "zstd:1")
    order = order_by(spread, "-cost")
    assert (np.diff(spread.cost[order, 1]) <= 0).all()
    assert values_of(spread, "load streams").min() == 3
    for wrong in ("speed < 3", "cost", "cost < dear", "time < soon"):
        with pytest.raises(RequestError):
            chosen(spread, [wrong])


def test_what_ifs_change_what_they_name(usual: tuple[Worldly, list[Trial], Model]) -> None:
    _, _, model = usual
    one = [next(iter(SPACE.grid()))]

    def told(**supposed: Any) -> Any:
        return forecast(model, one, WHOLE, PRICES, WhatIf(**supposed))[0]

    def width(one: Any) -> float:
        return float(one.seconds.high / one.seconds.low)

    usual_one = told()
    slow = told(link=2e6)
    assert slow.phases["ship"] == pytest.approx(WHOLE.bytes / 2e6, rel=0.1)
    assert slow.phases["load"] == pytest.approx(usual_one.phases["load"], rel=0.02)
    assert told(price_factor=2).cost.median == pytest.approx(2 * usual_one.cost.median, rel=0.01)
    crowded = told(readers=(0.5, 0.5))
    assert crowded.phases["load"] == pytest.approx(2 * usual_one.phases["load"], rel=0.02)
    # Nobody knows when they come: about the middle, and further apart.
    coming = told(readers=(0.2, 0.8))
    assert coming.phases["load"] == pytest.approx(crowded.phases["load"], rel=0.05)
    assert (
        coming.seconds.high / coming.seconds.low > 1.2 * crowded.seconds.high / crowded.seconds.low
    )
    assert told(files=2000).seconds.median > usual_one.seconds.median
    # Stages at the same time take no longer than one after the other, and as long as the slowest.
    assert max(usual_one.phases.values()) < usual_one.seconds.median
    assert usual_one.seconds.median < usual_one.in_turn.median


NOW = datetime(2031, 7, 4, 14, 30).astimezone()


@pytest.mark.parametrize(("text", "minutes", "ends"), [
    ("45m", 45, None),
    ("by 15:00", 30, "15:00"),
    ("06:00", 15 * 60 + 30, "06:00"),
    ("between 01:00 and 05:00", 240, "05:00"),
    ("22:00-04:00", 360, "04:00"),
    # One that has begun leaves what is left of it.
    ("between 14:00 and 16:00", 90, "16:00"),
    ("between 23:00 and 15:00", 30, "15:00"),
])  # fmt: skip
def test_deadlines_are_read_as_people_give_them(
    text: str, minutes: float, ends: str | None
) -> None:
    found = parse_deadline(text, NOW)
    assert found.seconds == minutes * 60
    assert (None if found.ends is None else f"{found.ends:%H:%M}") == ends
    if found.ends is not None:
        assert NOW < found.ends <= NOW + timedelta(days=2)


@pytest.mark.parametrize("text", ["soon", "25:00", "by 12:75", "0s", "between 01:00"])
def test_deadlines_that_make_no_sense_are_refused(text: str) -> None:
    with pytest.raises(RequestError):
        parse_deadline(text, NOW)


def told_by(model: Model, every: Sequence[Any]) -> Any:
    return forecast(model, every, WHOLE, PRICES)


def test_reasons_say_what_less_time_costs_and_what_would_fit(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    _, _, model = usual
    every = list(SPACE.grid())[::7]
    told = told_by(model, every)
    fastest = min(one.seconds.high for one in told)
    loose = choose(told, Limits(deadline=2 * fastest), "crowns")
    assert loose.meets_limits
    assert any("sooner" in reason for reason in loose.reasons)
    tight = choose(told, Limits(deadline=0.3 * fastest), "crowns")
    assert not tight.meets_limits
    assert any(
        reason.startswith("With a chance of 90% it would be done in") for reason in tight.reasons
    )
    both = choose(told, Limits(deadline=0.3 * fastest, budget=1e-6), "crowns")
    assert any("none takes less than" in reason for reason in both.reasons)


def test_a_growing_load_outgrows_its_window_when_it_does(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    _, _, model = usual
    every = list(SPACE.grid())[::7]
    told = told_by(model, every)
    slow = sorted(told, key=lambda one: one.seconds.median)[len(told) // 2]
    limits = Limits(deadline=1.5 * slow.seconds.high)
    found = outgrown(model, slow.configuration, every, WHOLE, 0.05, PRICES, limits)
    assert found.months is not None
    # It grows by half at most until then, beside what does not grow with it.
    assert 6 <= found.months <= 14
    assert found.volume.bytes == pytest.approx(WHOLE.bytes * 1.05**found.months)
    assert found.then is not None
    assert found.then.seconds.median < slow.seconds.median * 1.05**found.months
    assert outgrown(model, slow.configuration, every, WHOLE, 1e-6, PRICES, limits).months is None


def test_runs_show_how_far_stages_share_a_machine(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    there, trials, model = usual

    def even(told: Forecast) -> float:
        stages = [told.phases[name] for name in STAGES]
        return 1 - max(stages) / sum(stages)

    one = max(told_by(model, list(SPACE.grid())[::5]), key=even).configuration
    whole = there.load(PlannedTrial(one, 1, "run"), WHOLE, MONTHS)
    columns = model.columns(Table.of([one]), WHOLE)
    phases = {name: np.array([[seconds]]) for name, seconds in whole.phases.items()}
    for share in (0.0, 0.5):
        took = float(overlapped(columns, phases, share)[0, 0])
        assert max(whole.phases.values()) < took < whole.seconds
        learned = fit_model([*trials, replace(whole, overlapped=took)], measured_here())
        assert learned.sharing.spread < 0.5 * model.sharing.spread
        assert learned.sharing.mean == pytest.approx(share, abs=0.15)
        told = forecast(learned, [one], WHOLE, PRICES)[0].seconds
        assert told.median == pytest.approx(took, rel=0.05)


def test_increments_are_held_against_full_deliveries(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    there, _, model = usual
    every = list(SPACE.grid())[::7]
    best = min(told_by(model, every), key=lambda one: one.seconds.median)
    size, limits = WHOLE.bytes / 20, Limits(deadline=1.5 * best.seconds.high)
    found = increments(model, best.configuration, every, WHOLE, size, PRICES, limits)
    one = found.choice.chosen
    truth = there.load(
        PlannedTrial(one.configuration, 1, "trial"), found.volume, found.volume.files
    )
    assert one.in_turn.low * 0.9 < truth.seconds < one.in_turn.high * 1.1
    # A twentieth more each time, of what may take half as long again or more.
    assert found.times is not None
    assert 6 <= found.times <= 17
    assert found.full is None or found.full.configuration != best.configuration
    free = increments(model, best.configuration, every, WHOLE, size, PRICES, Limits())
    assert (free.times, free.full) == (None, None)


def test_trials_of_another_engine_version_say_less(
    usual: tuple[Worldly, list[Trial], Model],
) -> None:
    _, trials, model = usual
    one = [next(iter(SPACE.grid()))]
    away = fit_model(trials, measured_here(), [ANOTHER_PLACE] * len(trials))
    here, there = (forecast(each, one, WHOLE, PRICES)[0].seconds for each in (model, away))
    assert there.high / there.low > 1.1 * here.high / here.low


def test_what_could_overturn_a_choice_is_named(usual: tuple[Worldly, list[Trial], Model]) -> None:
    _, _, model = usual
    told = sorted(told_by(model, list(SPACE.grid())[::3]), key=lambda one: one.seconds.median)
    aim = Aim(WHOLE, Limits(), PRICES)
    best, worst = told[0].configuration, told[-1].configuration
    sure = sensitivity(model, best, [worst], aim)
    assert (sure.chance, sure.rival, sure.trial) == (1.0, None, None)
    wrong = sensitivity(model, worst, [best], aim)
    assert (wrong.chance, wrong.rival) == (0.0, best)
    close = sensitivity(model, best, [one.configuration for one in told[1:40]], aim)
    assert 0 < close.chance <= 1
    assert (close.rival is None) == (close.chance == 1)


def test_a_volume_keeps_its_files_through_a_plan() -> None:
    assert Volume(10.0, 1.0, files=(4.0, 6.0)).parts(5) == ((4.0, 1), (5.0, 1), (1.0, 1))

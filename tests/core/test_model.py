"""The model: laws recovered from trials, schedules exact, forecasts honest, choices right."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from benchmarks import far
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.prices import Prices, Stretch, Tier, Usage, billed_seconds, reckon
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration, Rule, Space
from splarn.core.tuning.deciding import choice_of
from splarn.core.tuning.design import design
from splarn.core.tuning.explain import held_up
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import Forecast, Span, forecast
from splarn.core.tuning.frontier import on_frontier
from splarn.core.tuning.pieces import cut, lanes, luck_of
from splarn.core.tuning.plan import Limits, choose
from splarn.core.tuning.statistics import doubt_of, drift_of, outliers, scatter_of, summarise
from splarn.core.tuning.trial import Trial
from splarn.core.work.schedule import list_schedule

MIB = 1 << 20
SPACE = Space.of(
    {
        "part_size": (MIB, 4 * MIB),
        "packing": (Packing(), Packing("zstd", 1)),
        "workers": (1, 2),
        "load_streams": (1, 2, 4),
        "batch_rows": (5_000, 50_000),
    }
)


def narrowed(**levers: Any) -> Space:
    return Space({**SPACE.values, **levers})


@given(
    st.lists(st.integers(1, 40_000_000), min_size=1, max_size=8),
    st.integers(1_000_000, 20_000_000),
    st.integers(1, 12),
)
def test_lanes_are_those_of_the_list_schedule(files: list[int], part_size: int, slots: int) -> None:
    parts = cut(files, part_size)
    sizes = [size for size, count in parts for _ in range(count)]
    assert sum(sizes) == pytest.approx(sum(files))
    assert max(sizes) <= part_size
    found = lanes(parts, slots)
    usual = sum(sizes) / len(sizes)
    if len(sizes) <= 64 * slots:
        assert 0.1 * usual * found.parts + found.bytes == pytest.approx(
            list_schedule([0.1 * usual + size for size in sizes], slots)
        )
    assert 1 <= found.busy <= slots + 1e-9


def test_luck_of_parts_is_told_from_their_size_and_makes_lanes_longer() -> None:
    random = np.random.default_rng(1)
    parts = cut([100e6] * 4, 8_000_000)
    count = sum(number for _, number in parts)
    sizes = np.array([size for size, number in parts for _ in range(number)])

    def took(late: float) -> list[float]:
        odd = np.where(random.uniform(size=count) < late, 2.5, 1.0)
        return ((0.1 + sizes / 20e6) * odd * np.exp(random.normal(0, 0.04, count))).tolist()

    even, fortunes = luck_of([(parts, took(0.0)) for _ in range(6)])
    assert even.spread == pytest.approx(0.04, abs=0.02)
    assert even.stragglers == 0
    assert all(one is not None and abs(np.mean(one) - 1) < 0.05 for one in fortunes)
    late, _ = luck_of([(parts, took(0.05)) for _ in range(12)])
    assert 0.01 <= late.stragglers <= 0.1
    assert 2 <= late.factor <= 3.2
    assert lanes(parts, 8, late).bytes > lanes(parts, 8, even).bytes > lanes(parts, 8).bytes
    # What chance did to a load that was measured is no longer chance.
    told = lanes(parts, 1, late, (1.0,) * count)
    assert told.bytes == pytest.approx(lanes(parts, 1).bytes)
    assert luck_of([(parts, [1.0])])[1] == [None]


def test_nine_parts_on_eight_slots_take_two_rounds() -> None:
    assert list_schedule([1.0] * 9, 8) == 2.0
    assert list_schedule([3.0, 1.0, 1.0, 1.0], 2) == 3.0


class Machine:
    """A machine with known laws, written apart from the model's own formulas."""

    def __init__(self, seed: int, noise: float) -> None:
        self.random = np.random.default_rng(seed)
        self.noise = noise

    def phases(self, c: Configuration, volume: Volume) -> dict[str, float]:
        parts = max(math.ceil(volume.bytes / c.part_size), 1)
        sizes = [c.part_size] * (parts - 1) + [volume.bytes - c.part_size * (parts - 1)]
        per_byte = volume.rows / volume.bytes
        packs = {"none": 300e6, "zstd:1": 120e6}[str(c.packing)]
        busy, streams = min(c.workers, parts), min(c.load_streams, parts)
        shaping = [0.004 + s / packs * (1 + 0.08 * (busy - 1)) for s in sizes]
        slow = 1 + 0.3 * (streams - 1) + 0.01 * streams * (streams - 1)
        way = {"straight": 1.0, "landing": 1.6}[c.route]
        loading = []
        for size in sizes:
            rows = size * per_byte
            commits = max(math.ceil(rows / c.batch_rows), 1)
            work = (
                rows * 8e-6 * way
                + commits * 0.02
                + size / {"none": 2e9, "zstd:1": 6e8}[str(c.packing)]
            )
            loading.append(0.015 + work * slow)
        return {
            "shape": 0.02 + list_schedule(shaping, c.workers),
            "queue": 0.03 + 0.001 * parts,
            "load": list_schedule(loading, c.load_streams),
            "finish": 0.02 + volume.rows * 1e-6 * way**3,
        }

    def measured(self, c: Configuration, volume: Volume) -> dict[str, float]:
        clean = self.phases(c, volume)
        shared = self.random.normal(0, self.noise)
        return {
            phase: seconds * math.exp(shared + self.random.normal(0, self.noise))
            for phase, seconds in clean.items()
        }

    def trials(self, space: Space, volume: Volume, repeats: int) -> list[Trial]:
        found = []
        for plan in design(space, repeats, seed=3):
            c = plan.configuration
            phases = self.measured(c, volume)
            parts = max(math.ceil(volume.bytes / c.part_size), 1)
            share = 0.25 if c.packing.codec == "zstd" else 1.0
            found.append(
                Trial(
                    c, plan.repeat, plan.role, sum(phases.values()), phases, int(volume.rows),
                    int(volume.bytes), int(volume.bytes * share), parts, "2031-01-01T00:00:00",
                )
            )  # fmt: skip
        return found


def test_forecasts_hold_for_twenty_times_the_volume_and_unseen_values() -> None:
    sample, whole = Volume(16e6, 160_000), Volume(320e6, 3_200_000)
    unseen = Space.of(
        {
            "part_size": (2 * MIB, 3 * MIB),
            "packing": (Packing(), Packing("zstd", 1)),
            "workers": (1, 2),
            "load_streams": (2, 3),
            "batch_rows": (12_000,),
        }
    )
    errors, inside = [], []
    for seed in range(6):
        machine = Machine(seed, noise=0.05)
        model = fit_model(machine.trials(SPACE, sample, repeats=2))
        for found in forecast(model, list(unseen.grid()), whole, Prices()):
            actual = sum(machine.measured(found.configuration, whole).values())
            errors.append(abs(math.log(found.in_turn.median / actual)))
            inside.append(found.in_turn.low <= actual <= found.in_turn.high)
            assert not found.extrapolated
    assert np.median(errors) < 0.08
    assert np.mean(inside) > 0.85


def test_a_lever_never_tried_is_wide_and_said() -> None:
    narrow = narrowed(load_streams=(1,), packing=(Packing(),))
    model = fit_model(Machine(1, 0.03).trials(narrow, Volume(16e6, 160_000), 2))
    base = Configuration(
        part_size=MIB, packing=Packing(), workers=2, load_streams=1, batch_rows=50_000
    )
    wide = Configuration(
        part_size=MIB, packing=Packing("gzip", 6), workers=2, load_streams=8, batch_rows=50_000
    )
    known, unknown = forecast(model, [base, wide], Volume(64e6, 640_000), Prices())
    assert known.extrapolated == ()
    assert unknown.extrapolated == ("codec", "load streams")

    def spread(found: Forecast) -> float:
        return found.seconds.high / found.seconds.low

    assert spread(unknown) > 1.5 * spread(known)


def test_ways_of_writing_have_their_own_speed() -> None:
    sample, whole = Volume(16e6, 160_000), Volume(64e6, 640_000)
    space = narrowed(packing=(Packing(),), route=("straight", "landing"))
    machine = Machine(2, 0.03)
    model = fit_model(machine.trials(space, sample, 2))
    direct = Configuration(
        part_size=4 * MIB, packing=Packing(), workers=2, load_streams=2, batch_rows=50_000
    )
    landing = replace(direct, route="landing")
    never = replace(direct, indexes="rebuild")
    found = forecast(model, [direct, landing, never], whole, Prices())
    for one, configuration in zip(found[:2], (direct, landing), strict=True):
        truth = machine.phases(configuration, whole)
        assert one.phases["load"] == pytest.approx(truth["load"], rel=0.1)
        assert one.phases["finish"] == pytest.approx(truth["finish"], rel=0.15)
        assert one.extrapolated == ()
    assert found[2].extrapolated == ("way of writing",)


def test_a_model_needs_trials() -> None:
    with pytest.raises(RequestError, match="at least 3 trials"):
        fit_model(Machine(1, 0.1).trials(SPACE, Volume(16e6, 160_000), 1)[:3])


def test_a_design_tries_everything_as_often_as_asked_in_an_order_of_its_own() -> None:
    planned = design(SPACE, 3, seed=5)
    tried = [plan.configuration for plan in planned if plan.role == "trial"]
    assert sorted(tried) == sorted(list(SPACE.grid()) * 3)
    assert planned == design(SPACE, 3, seed=5) != design(SPACE, 3, seed=6)
    assert [plan.role for plan in planned[:2]] == ["warm-up", "reference"]


def test_summaries_leave_warm_ups_out() -> None:
    trials = Machine(2, 0.1).trials(SPACE, Volume(16e6, 160_000), 3)
    slow = replace(trials[0], seconds=1e6)
    found = summarise([slow, *trials[1:]])
    assert len(found) == SPACE.size
    assert all(s.low <= s.median <= s.high < 1e5 for s in found)
    assert [s.median for s in found] == sorted(s.median for s in found)
    assert drift_of(trials) is not None


@pytest.mark.parametrize("repeats", [2, 3, 5])
def test_intervals_of_medians_hold_the_truth_as_often_as_they_say(repeats: int) -> None:
    held = []
    for seed in range(12):
        machine = Machine(seed, 0.05)
        volume = Volume(16e6, 160_000)
        for found in summarise(machine.trials(SPACE, volume, repeats)):
            truth = sum(machine.phases(found.configuration, volume).values())
            held.append(found.low <= truth <= found.high)
    assert 0.84 <= np.mean(held) <= 0.96


def test_drift_is_told_from_scatter_and_taken_out() -> None:
    volume = Volume(16e6, 160_000)
    for growth, sure in ((0.0, False), (0.5, True)):
        machine = Machine(3, 0.02)
        trials = machine.trials(SPACE, volume, 6)
        trials = [
            replace(one, seconds=one.seconds * (1 + growth * place / len(trials)))
            for place, one in enumerate(trials)
        ]
        found = drift_of(trials)
        assert found is not None
        assert found.is_sure == sure
        assert found.low <= growth <= found.high
        # All are as in the middle of the sweep.
        for one in summarise(trials):
            truth = sum(machine.phases(one.configuration, volume).values())
            assert one.corrected == pytest.approx(truth * (1 + growth / 2), rel=0.08)


def test_outliers_are_marked_and_two_that_are_alike_are_not_told_apart() -> None:
    assert outliers([1.0, 1.02, 0.99, 1.9], 0.02) == [False, False, False, True]
    assert outliers([1.0, 9.0], 0.02) == [False, False]
    trials = Machine(4, 0.05).trials(SPACE, Volume(16e6, 160_000), 3)
    doubt = doubt_of(trials, summarise(trials))
    assert doubt is not None
    assert doubt.spread == pytest.approx(0.05, rel=0.4)
    # So many repeats would tell what they differ by, where that is what they truly differ by.
    assert 1.645 * doubt.spread * (2 / doubt.repeats) ** 0.5 <= max(doubt.difference, 0.005) * 1.05
    assert scatter_of(trials[:1]).spread == 0.10


@given(st.lists(st.tuples(st.integers(1, 6), st.integers(1, 6)), min_size=1, max_size=30))
def test_the_frontier_is_what_nothing_beats(points: list[tuple[int, int]]) -> None:
    seconds, cost = zip(*points, strict=True)
    mask = on_frontier(seconds, cost)
    for index, (t, c) in enumerate(points):
        beaten = any(a <= t and b <= c and (a, b) != (t, c) for a, b in points)
        twin = (t, c) in points[:index]
        assert mask[index] == (not beaten and not twin)


@pytest.mark.parametrize(
    ("busy", "billed"), [(0.0, 60), (59.9, 60), (60.0, 60), (60.1, 90), (90.0, 90), (90.01, 120)]
)
def test_bills_keep_the_minimum_and_fill_the_step(busy: float, billed: float) -> None:
    assert billed_seconds(Tier(per_hour=1, billing_step=30, minimum=60), busy) == billed


def test_a_cost_has_its_items() -> None:
    prices = Prices(machine_per_hour=3.6, tiers={"u2": Tier(per_hour=36, start_up=5)})
    cost = reckon(prices, Usage((Stretch("u2", 95),), 200))
    assert (cost.compute, cost.machine) == pytest.approx((1.0, 0.2))
    with pytest.raises(RequestError, match="'u8' is not in the price list"):
        reckon(prices, Usage((Stretch("u8", 1),)))


def made(streams: int, seconds: float, cost: float, spread: float = 0.1) -> Forecast:
    draws = seconds * np.exp(spread * np.random.default_rng(1).standard_normal(400))
    costs = np.full(400, cost)
    low, median, high = np.quantile(draws, [0.05, 0.5, 0.95])
    one = Configuration(
        part_size=MIB, packing=Packing(), workers=1, load_streams=streams, batch_rows=5_000
    )
    return Forecast(
        one, Span(low, median, high),
        Span(cost, cost, cost), {"shape": median * 0.2, "load": median * 0.8}, {}, (), False,
        draws, costs, Span(low, median, high),
    )  # fmt: skip


def test_choices_follow_the_limits() -> None:
    slow, middle, fast = made(1, 100, 1.0), made(2, 60, 2.0), made(4, 40, 5.0)
    every = [slow, middle, fast]

    def chosen(limits: Limits) -> Forecast:
        found = choose(every, limits, "crowns")
        assert found.meets_limits
        return found.chosen

    assert chosen(Limits()) is fast
    assert chosen(Limits(deadline=200)) is slow
    assert chosen(Limits(deadline=80)) is middle
    # 105 s is above the slow one's median but below its 90 % chance.
    assert chosen(Limits(deadline=105)) is middle
    assert chosen(Limits(deadline=105, confidence=0.6)) is slow
    assert chosen(Limits(budget=3.0)) is middle
    assert chosen(Limits(deadline=80, budget=3.0)) is middle
    none = choose(every, Limits(deadline=20), "crowns")
    assert (none.meets_limits, none.chosen) == (False, fast)
    assert "No configuration ends in 20.0 s" in none.reasons[0]


def test_reasons_name_what_binds_and_what_comes_next() -> None:
    found = choose([made(1, 100, 1.0), made(2, 60, 2.0)], Limits(deadline=200), "crowns")
    why, binds, runner_up, sooner = found.reasons
    assert "cheapest of all 2 configurations" in why
    assert "load phase binds, with 80%" in binds
    assert "load streams at 2" in binds
    assert "cost 1.00 crowns more" in runner_up
    assert sooner == "It would also keep a deadline that is 50.0 s sooner."


def test_configurations_survive_json_and_spaces_refuse_nonsense() -> None:
    for configuration in itertools.islice(SPACE.grid(), 5):
        assert Configuration.from_json(configuration.as_json()) == configuration
    assert SPACE.size == 48
    for wrong in ({"part_size": (10,)}, {"load_streams": (0,)}, {"packing": ()}):
        with pytest.raises(RequestError):
            Space.of({**SPACE.values, **wrong})


@pytest.mark.parametrize("name", list(far.WORLDS))
def test_machines_are_a_lever_whose_limits_are_found_out(name: str) -> None:
    world = far.WORLDS[name]
    model = far.learnt(world, seed=3)
    volume = Volume(far.WHOLE / 50, far.WHOLE / 50 / far.ROW)
    told = forecast(model, [far.configured(one) for one in (1, 2, 4, 8)], volume, far.PRICES)
    for one in told:
        truth = far.load(world, one.configuration, volume.bytes, np.random.default_rng(5))
        # Of eight, twice as many as were tried, it is only told what they take at the most.
        low = 0.0 if one.configuration.machines == 8 else 0.95 * one.in_turn.low
        assert low <= truth.seconds <= 1.05 * one.in_turn.high
        hours = one.seconds.median / 3600 * one.configuration.machines
        assert one.costs["machine"] == pytest.approx(hours * 0.4, rel=0.05)
    # Four machines are what was tried: there it is known what holds them up.
    found = held_up(model, far.configured(4), volume)
    assert (found == "each machine's own line") == (name == "thin lines of machines")


def test_what_joining_a_cluster_takes_is_not_left_of_a_deadline() -> None:
    model = far.learnt(far.WORLDS["nothing shared"], seed=3)
    volume = Volume(far.WHOLE / 50, far.WHOLE / 50 / far.ROW)
    every = [far.configured(one) for one in (1, 2, 4)]
    values: dict[str, Any] = {name: (value,) for name, value in vars(every[0]).items()}
    values |= {"machines": (1, 2, 4), "workers": (2, 4, 8), "load_streams": (2, 4, 8)}
    uneven = Rule(
        "threads lie idle",
        lambda one: {one.workers, one.load_streams} != {2 * one.machines},
        ("machines", "workers", "load_streams"),
    )
    space = Space(values, (uneven,))
    told = forecast(model, every[:2], volume, far.PRICES)
    alone, two = (float(np.quantile(one.draws, 0.9)) for one in told)
    for deadline, joining, machines in (
        (1.01 * two, 0.0, 2),
        (1.01 * two, 0.1 * two, 4),
        (1.02 * alone, 0.1 * alone, 1),
    ):
        choice = choice_of(model, space, volume, far.PRICES, Limits(deadline), joining)
        assert choice.meets_limits
        assert choice.chosen.configuration.machines == machines
        # What is told of it is without.
        (own,) = forecast(model, [choice.chosen.configuration], volume, far.PRICES)
        assert choice.chosen.seconds.median == pytest.approx(own.seconds.median)


def test_one_machine_is_foretold_as_if_there_were_no_others() -> None:
    random = np.random.default_rng(4)
    alone = [
        far.load(far.Far(), far.configured(1, part, threads), far.SAMPLE / 10, random)
        for part in (16, 64)
        for threads in (1, 2)
        for _ in range(2)
    ]
    model = fit_model(alone)
    assert not any("machine" in name for one in model.phases for name in one.law.names)

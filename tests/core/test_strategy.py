"""Which trials are chosen, on simulated machines whose best configuration is known."""

from __future__ import annotations

import math

import pytest

from splarn.core.errors import RequestError
from splarn.core.prices import Prices, Tier
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import LEVERS, Configuration, Space
from splarn.core.tuning.design import share_of
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.foreseen import by_first, by_model
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.possible import rules_of_parts, rules_of_volume
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.strategy import Adaptive, Strategy, centre_of, star, starting_trials
from splarn.core.tuning.trial import Trial
from tests.core.test_model import Machine

SAMPLE, WHOLE = Volume(16e6, 160_000), Volume(640e6, 6_400_000)
SPACE = Space.of(
    {
        "part_size": ("500_000..4_000_000",),
        "packing": ("none", "zstd:1"),
        "workers": (1, 2),
        "load_streams": ("1..8",),
        "batch_rows": (2_000, 20_000),
    }
)


def tried(machine: Machine, one: Configuration, repeat: int, role: str) -> Trial:
    share = share_of(role)
    volume = Volume(SAMPLE.bytes * share, SAMPLE.rows * share)
    phases = machine.measured(one, volume)
    parts = max(math.ceil(volume.bytes / one.part_size), 1)
    return Trial(
        one, repeat, role, sum(phases.values()), phases, int(volume.rows), int(volume.bytes),
        int(volume.bytes), parts, "2031-01-01T00:00:00",
    )  # fmt: skip


def swept(machine: Machine, strategy: Strategy) -> list[Trial]:
    trials: list[Trial] = []
    while (plan := strategy.following(trials)) is not None:
        trials.append(tried(machine, plan.configuration, plan.repeat, plan.role))
    return trials


def test_ranges_double_and_keep_both_ends() -> None:
    assert SPACE.values["load_streams"] == (1, 2, 4, 8)
    assert SPACE.values["part_size"] == (500_000, 1_000_000, 2_000_000, 4_000_000)
    assert LEVERS["load_streams"].values("3..10") == (3, 6, 10)
    assert Space.of({"workers": ("1..4", 2, 8)}).values["workers"] == (1, 2, 4, 8)
    for wrong in ("8..2", "0..4", "1..", "..4", "1..x"):
        with pytest.raises(RequestError, match="--workers"):
            LEVERS["workers"].values(wrong)


def test_a_start_shows_both_ends_of_every_lever_and_every_kind() -> None:
    start = starting_trials(SPACE, SAMPLE)
    assert [plan.role for plan in start[:2]] == ["warm-up", "reference"]
    for name, values in SPACE.values.items():
        shown = {getattr(plan.configuration, name) for plan in start}
        assert {min(values), max(values)} <= shown
    assert len(start) <= 10
    assert [plan.role for plan in start[-2:]] == ["small", "small"]


def test_a_star_changes_one_lever_at_a_time() -> None:
    middle = centre_of(SPACE)
    plan = star(SPACE, 2, seed=1)
    for one in plan.planned:
        changed = [n for n in LEVERS if getattr(one.configuration, n) != getattr(middle, n)]
        assert len(changed) <= 1
    arms = sum(len(values) - 1 for values in SPACE.values.values())
    assert len(plan.planned) == 1 + 2 * (1 + arms)


@pytest.mark.parametrize(("limits", "seeds"), [(Limits(), 2), (Limits(deadline=400.0), 1)])
def test_few_trials_lead_to_a_choice_that_is_as_good_as_the_best(
    limits: Limits, seeds: int
) -> None:
    prices = Prices(machine_per_hour=1.0, tiers={"u1": Tier(per_hour=10)})
    aim = Aim(WHOLE, limits, prices)
    every = list(SPACE.grid())
    for seed in range(seeds):
        machine = Machine(seed, noise=0.04)
        strategy = Adaptive(SPACE, aim, SAMPLE, seed)
        trials = swept(machine, strategy)
        assert strategy.ended in ("expected regret below 2 %", "no trial promises to tell more")
        found = forecast(fit_model(trials), every, WHOLE, prices)
        pick = min(found, key=lambda one: one.seconds.median).configuration
        truth = {one: sum(machine.phases(one, WHOLE).values()) for one in every}
        assert truth[pick] <= 1.05 * min(truth.values())
        whole_grid = sum(sum(machine.phases(one, SAMPLE).values()) for one in every)
        assert sum(trial.seconds for trial in trials) < 0.5 * whole_grid


def test_what_comes_next_follows_from_what_came_and_the_seed_alone() -> None:
    aim, machine = Aim(WHOLE, Limits(), Prices()), Machine(5, noise=0.05)
    trials = swept(machine, Adaptive(SPACE, aim, SAMPLE, 1, regret=0.04))
    again = Adaptive(SPACE, aim, SAMPLE, 1, regret=0.04)
    for count in (3, len(trials) - 1):
        following = again.following(trials[:count])
        assert following is not None
        assert following.configuration == trials[count].configuration


def test_one_configuration_is_tried_until_a_model_can_be_had() -> None:
    single = Space.of({name: (values[0],) for name, values in SPACE.values.items()})
    strategy = Adaptive(single, Aim(WHOLE, Limits(), Prices()), SAMPLE, 1)
    trials = swept(Machine(1, noise=0.03), strategy)
    assert len([trial for trial in trials if trial.tells]) >= 3
    fit_model(trials)


def test_what_cannot_be_is_left_out_with_its_reason() -> None:
    space = Space.of(
        {
            "part_size": (100_000, 400_000, 900_000_000),
            "format": ("csv", "parquet"),
            "packing": ("none", "snappy"),
            "workers": (1,),
            "transfer_streams": (0, 2),
            "load_streams": (1, 4, 16, 64),
            "batch_rows": (500, 50_000, 0),
            "durability": ("full", "none"),
        }
    )
    space = space.without(rules_of_parts(space, depot=False))
    space = space.without(rules_of_volume(space, Volume(4e6, 40_000), Volume(6e6, 60_000)))
    every = list(space.grid())
    assert {one.part_size for one in every} == {100_000, 400_000}
    assert not any(one.format == "csv" and str(one.packing) == "snappy" for one in every)
    assert any(one.format == "parquet" and str(one.packing) == "snappy" for one in every)
    assert {one.transfer_streams for one in every} == {0}
    assert {one.durability for one in every} == {"full"}
    # 60 parts, or 15: of streams that find none, one value is as good as another.
    assert {one.load_streams for one in every if one.part_size == 100_000} == {1, 4, 16, 64}
    assert {one.load_streams for one in every if one.part_size == 400_000} == {1, 4, 16}
    # A part has 1,000 rows or 4,000, so that 50,000 a batch are the whole of it.
    assert {one.batch_rows for one in every} == {500, 0}
    reasons = dict(space.left_out())
    assert sum(reasons.values()) + len(every) == 3 * 2 * 2 * 2 * 4 * 3 * 2
    assert all(reason[-1] != "." for reason in reasons)
    alone = Space.of({"packing": ("snappy",)})
    with pytest.raises(RequestError, match="Nothing of the space can be tried: csv has no codec"):
        alone.without(rules_of_parts(alone, depot=False))


def test_a_sweep_foresees_what_it_takes_and_whether_it_can_pay() -> None:
    machine = Machine(3, noise=0.02)
    aim = Aim(WHOLE, Limits(), Prices(tiers={"u1": Tier(per_hour=10)}))
    strategy = Adaptive(SPACE, aim, SAMPLE, 1)
    trials = swept(machine, strategy)
    told = by_model(fit_model(trials), strategy.beforehand(), 5, strategy.every, aim, SAMPLE)
    spent = sum(trial.seconds for trial in trials if trial.role != "large") / len(trials)
    assert told.trials == len(strategy.beforehand()) + 5
    assert told.seconds == pytest.approx(told.trials * spent, rel=0.6)
    best = min(sum(machine.phases(one, WHOLE).values()) for one in SPACE.grid())
    assert told.load_seconds == pytest.approx(best, rel=0.2)
    assert told.pays(1) == (told.cost < told.load_cost)
    assert told.pays(10_000)
    rough = by_first(trials[1:3], 4, 6, aim)
    assert rough.load_seconds / rough.seconds == pytest.approx(WHOLE.bytes / SAMPLE.bytes / 10)
    assert rough.least() == pytest.approx((0.4 * rough.seconds, 0.4 * rough.cost))

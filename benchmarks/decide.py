"""Benchmarks of forecasts: trials in, the truth of real loads out, over worlds of several kinds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import repeat
from multiprocessing import get_context
from pathlib import Path

import numpy as np

from benchmarks.measure import Row
from benchmarks.worlds import (
    BROKEN,
    MONTHS,
    PACK,
    PRICES,
    SAMPLE,
    SHARE,
    SMALL,
    SPACE,
    UNPACK,
    WHOLE,
    WORLDS,
    Worldly,
)
from splarn.core.prices import reckon
from splarn.core.tuning.columns import Packed
from splarn.core.tuning.design import PlannedTrial
from splarn.core.tuning.doubts import calibrated, doubts
from splarn.core.tuning.evidence import RUN, Evidence
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.strategy import Adaptive, grid

# Configurations that are loaded in truth, none of which a grid has tried.
HELD_OUT = 24


@dataclass(frozen=True)
class Held:
    """Forecasts held against truths, shape (configurations,): of time and of cost."""

    seconds: np.ndarray
    cost: np.ndarray
    inside: np.ndarray
    width: np.ndarray
    warned: bool


def measured_here() -> dict[str, Packed]:
    """What packing would be measured to do, before any trial."""
    return {
        f"csv {name}": Packed(share, 1e6 / PACK[name], 1e6 / UNPACK[name] if UNPACK[name] else 0.0)
        for name, share in SHARE.items()
    }


def held(world: str, how: str, seed: int) -> Held:
    """What one sweep of a world makes of loads of twenty times as much."""
    there = Worldly({**WORLDS, **BROKEN}[world], seed)
    chooser = (
        Adaptive(SPACE, Aim(WHOLE, Limits(), PRICES), SAMPLE, seed)
        if how == "adaptive"
        else grid(SMALL, 1, seed)
    )
    trials = there.sweep(chooser.following)
    random = np.random.default_rng(seed)
    every = [one for one in SPACE.grid() if one not in {trial.configuration for trial in trials}]
    chosen = [every[place] for place in random.choice(len(every), HELD_OUT, replace=False)]
    model = calibrated(fit_model(trials, measured_here()), trials)
    told = forecast(model, chosen, WHOLE, PRICES)
    truth = [there.load(PlannedTrial(one, 1, "trial"), WHOLE, MONTHS) for one in chosen]
    actual = np.array([trial.seconds for trial in truth])
    paid = np.array([reckon(PRICES, trial.usage).total for trial in truth])
    return Held(
        np.array([one.in_turn.median for one in told]) / actual - 1,
        np.array([one.cost.median for one in told]) / paid - 1,
        np.array([
            one.in_turn.low <= real <= one.in_turn.high
            for one, real in zip(told, actual, strict=True)
        ]),
        np.array([one.in_turn.high / one.in_turn.low for one in told]),
        bool(doubts(model)),
    )  # fmt: skip


def decide(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints a line a world and strategy: how far forecasts are off, and what intervals hold."""
    seeds = range(max(round(4 * scale), 1))
    print(
        "| world | trials | median error | nine in ten within | mean, signed | 90 % intervals hold "
        "| their width | of cost, median | signed | warns |"
    )
    print("|---|---|---|---|---|---|---|---|---|---|")
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for how in ("adaptive", "grid"):
            every: list[Held] = []
            for world in WORLDS:
                found = list(pool.map(held, repeat(world), repeat(how), seeds))
                every += found
                _tell(world, how, found)
            _tell("all", how, every)
            _tell("(breaks the laws)", how, [
                one for world in BROKEN for one in pool.map(held, repeat(world), repeat(how), seeds)
            ])  # fmt: skip
    return []


def _tell(world: str, how: str, found: Sequence[Held]) -> None:
    off = np.concatenate([one.seconds for one in found])
    cost = np.concatenate([one.cost for one in found])
    inside = np.concatenate([one.inside for one in found])
    width = np.concatenate([one.width for one in found])
    print(
        f"| {world} | {how} | {np.median(np.abs(off)):.1%} | {np.quantile(np.abs(off), 0.9):.1%} | "
        f"{off.mean():+.1%} | {inside.mean():.0%} | {np.median(width):.2f} | "
        f"{np.median(np.abs(cost)):.1%} | {cost.mean():+.1%} | "
        f"{np.mean([one.warned for one in found]):.0%} |",
        flush=True,
    )


def after_a_run(world: str, seed: int) -> tuple[float, float]:
    """How far the forecast of a load is off before and after one such load was run."""
    there = Worldly(WORLDS[world], seed)
    trials = there.sweep(grid(SMALL, 1, seed).following)
    every = list(SPACE.grid())
    one = every[int(np.random.default_rng(seed).integers(len(every)))]
    evidence = Evidence()
    evidence.add(trials, 1.0)
    first = there.load(PlannedTrial(one, 1, "run"), WHOLE, MONTHS)
    before = fit_model(evidence.trials, measured_here(), evidence.loose)
    evidence.add([first], RUN)
    after = fit_model(evidence.trials, measured_here(), evidence.loose)
    actual = there.load(PlannedTrial(one, 1, "run"), WHOLE, MONTHS).seconds
    was, now = (
        forecast(model, [one], WHOLE, PRICES)[0].in_turn.median / actual - 1
        for model in (before, after)
    )
    return was, now


def learning(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints how far forecasts of the same load are off before and after it was run once."""
    seeds = range(max(round(6 * scale), 1))
    print("| world | before a run, median | after it, median | worst after it |")
    print("|---|---|---|---|")
    every: list[tuple[float, float]] = []
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for world in WORLDS:
            found = list(pool.map(after_a_run, repeat(world), seeds))
            every += found
            _tell_learning(world, found)
    _tell_learning("all", every)
    return []


def _tell_learning(world: str, found: Sequence[tuple[float, float]]) -> None:
    was, now = np.abs(np.array(found)).T
    print(
        f"| {world} | {np.median(was):.1%} | {np.median(now):.1%} | {now.max():.1%} |", flush=True
    )


DECIDE: dict[str, Callable[[Path, int, float], list[Row]]] = {
    "decide": decide,
    "learning": learning,
}

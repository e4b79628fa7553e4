"""What trials leave open: least squares, draws of what is still possible, limits that all share."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Floats, Volume
from splarn.core.tuning.configuration import Configuration, Space
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.laws import larger
from splarn.core.tuning.least_squares import least_squares
from splarn.core.tuning.sampling import draws_of
from splarn.core.tuning.trial import Trial
from splarn.core.work.schedule import list_schedule


@given(st.integers(0, 10_000), st.integers(1, 6))
def test_least_squares_of_what_is_linear_are_those_of_algebra(seed: int, size: int) -> None:
    random = np.random.default_rng(seed)
    matrix, wanted = random.normal(size=(size + 4, size)), random.normal(size=size + 4)
    wide = np.full(size, 1e3)
    found, jacobian = least_squares(
        lambda many: many @ matrix.T - wanted, np.zeros(size), -wide, wide
    )
    known = np.linalg.lstsq(matrix, wanted, rcond=None)[0]
    assert np.abs(matrix @ (found - known)).max() < 1e-3
    assert np.abs(jacobian - matrix).max() < 1e-4
    # Within bounds that leave the solution out, one is met.
    low, high = np.full(size, -0.01), np.full(size, 0.01)
    held, _ = least_squares(lambda many: many @ matrix.T - wanted, np.zeros(size), low, high)
    assert (low <= held).all()
    assert (held <= high).all()


def test_least_squares_follow_a_bent_valley() -> None:
    def residuals(many: Floats) -> Floats:
        x, y = many[:, 0], many[:, 1]
        return np.stack((10 * (y - x**2), 1 - x), axis=1)

    bounds = np.array([-5.0, -5.0]), np.array([5.0, 5.0])
    found, _ = least_squares(residuals, np.array([-1.2, 1.0]), *bounds)
    assert found == pytest.approx([1.0, 1.0], abs=1e-3)


def test_draws_are_as_likely_as_they_are_also_where_nothing_is_normal() -> None:
    random = np.random.default_rng(4)

    # All is alike up to 1, and nothing beyond; the approximation around 0 knows no such wall.
    def walled(many: Floats) -> Floats:
        return (
            np.where(many[:, 0] < 1, -0.5 * (many[:, 0] / 3) ** 2, -np.inf) - 0.5 * many[:, 1] ** 2
        )

    drawn = draws_of(walled, np.zeros(2), np.diag([9.0, 1.0]), 2000, random)
    assert drawn.shape == (2000, 2)
    assert (drawn[:, 0] < 1).all()
    # Means and spreads of a normal that is cut at a third of its spread, and of one that is not.
    assert drawn.mean(axis=0) == pytest.approx([-1.81, 0.0], abs=0.25)
    assert drawn.std(axis=0) == pytest.approx([2.06, 1.0], rel=0.15)

    # An approximation that is three times too narrow is widened.
    narrow = draws_of(
        lambda many: -0.5 * (many[:, 0] / 3) ** 2, np.zeros(1), np.eye(1), 2000, random
    )
    assert narrow.std() == pytest.approx(3.0, rel=0.15)


@given(st.floats(0.01, 100), st.floats(0.01, 100))
def test_of_two_limits_the_larger_holds(one: float, other: float) -> None:
    found = float(larger(np.array(one), np.array(other)))
    assert max(one, other) <= found <= max(one, other) * 1.03


SPACE = Space.of(
    {
        "part_size": (1_000_000, 4_000_000),
        "packing": ("none",),
        "workers": (1,),
        "load_streams": (1, 2, 4, 8),
        "batch_rows": (0,),
    }
)
SAMPLE, WHOLE = Volume(64e6, 640_000), Volume(1.28e9, 12_800_000)


def on_few_cores(one: Configuration, volume: Volume, cores: int, cap: float) -> dict[str, float]:
    """A target with so many cores, whose storage takes `cap` bytes a second from all streams."""
    parts = math.ceil(volume.bytes / one.part_size)
    streams = min(one.load_streams, parts)
    work = one.part_size / 20e6 * max(streams / cores, 1)
    took = max(work, one.part_size * streams / cap) + 0.02
    return {
        "shape": volume.bytes / 500e6,
        "queue": 0.05,
        "load": list_schedule([took] * parts, streams),
        "finish": volume.rows * 2e-7,
    }


@pytest.mark.parametrize(("cores", "cap"), [(2, 1e12), (3, 1e12), (64, 50e6), (64, 90e6)])
def test_what_all_streams_share_is_found_and_holds_at_many_times_the_volume(
    cores: int, cap: float
) -> None:
    random = np.random.default_rng(cores)
    trials = []
    for number, one in enumerate([*SPACE.grid()] * 2):
        volume = Volume(SAMPLE.bytes / 4, SAMPLE.rows / 4) if number % 5 == 4 else SAMPLE
        phases = {
            name: seconds * math.exp(random.normal(0, 0.02))
            for name, seconds in on_few_cores(one, volume, cores, cap).items()
        }
        parts = math.ceil(volume.bytes / one.part_size)
        trials.append(
            Trial(one, 1, "small" if volume is not SAMPLE else "trial", sum(phases.values()),
                  phases, int(volume.rows), int(volume.bytes), int(volume.bytes), parts, "")
        )  # fmt: skip
    every = list(SPACE.grid())
    for told in forecast(fit_model(trials), every, WHOLE, Prices()):
        truth = sum(on_few_cores(told.configuration, WHOLE, cores, cap).values())
        assert told.in_turn.median == pytest.approx(truth, rel=0.08)
        assert told.in_turn.low < truth < told.in_turn.high

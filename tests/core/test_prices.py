"""The reckoning to the last step: minimums, steps, resizing, every item; tiers compared."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.prices import (
    Prices,
    Stretch,
    Tier,
    Usage,
    billed_seconds,
    make_prices,
    read_prices,
    reckon,
)
from splarn.core.prices.reckoning import merged
from splarn.core.source.codecs import Packing
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.tiers import by_tier
from splarn.core.tuning.trial import Trial

# A crown a second for u1, so that amounts are seconds.
PRICES = Prices(
    tiers={
        "u1": Tier(per_hour=3600, billing_step=10, minimum=60),
        "u4": Tier(per_hour=4 * 3600, billing_step=10, minimum=60),
    }
)


def compute(*stretches: Stretch, prices: Prices = PRICES) -> float:
    return reckon(prices, Usage(stretches)).compute


@pytest.mark.parametrize(
    ("busy", "billed"),
    [(0.0, 60), (59.9, 60), (60.0, 60), (60.000001, 70), (69.9999999999, 70), (70.0, 70), (71, 80)],
)
def test_a_bill_keeps_the_minimum_and_fills_the_step(busy: float, billed: float) -> None:
    assert compute(Stretch("u1", busy), Stretch("u4", 0)) == (billed if busy else 0)
    assert billed_seconds(PRICES.tiers["u1"], busy) == billed


def test_resizing_in_mid_load_is_billed_by_stretches() -> None:
    # 5 s at rest owe a minute; 95 s of u4 are ten steps; back at u1 nothing starts anew.
    up = (Stretch("u1", 5), Stretch("u4", 95), Stretch("u1", 3, starts=False))
    assert compute(*up) == 60 + 4 * 100 + 10
    # A short time at the larger tier owes its minimum in full.
    assert compute(Stretch("u1", 5), Stretch("u4", 2), Stretch("u1", 61, False)) == 60 + 240 + 70


def test_neighbours_of_one_tier_are_one_stretch() -> None:
    pieces = (Stretch("u1", 31), Stretch("u1", 31), Stretch("u4", 0), Stretch("u1", 31, False))
    assert merged(pieces) == (Stretch("u1", 93),)
    assert compute(*pieces) == 100


def test_start_up_and_tail_are_billed_once() -> None:
    prices = Prices(
        tiers={
            "u1": Tier(per_hour=3600, start_up=7, idle_tail=30),
            "u4": Tier(per_hour=4 * 3600, start_up=7, idle_tail=30),
        }
    )
    assert compute(Stretch("u1", 10), prices=prices) == 47
    assert compute(Stretch("u1", 10), Stretch("u4", 10), prices=prices) == 17 + 4 * 47


@given(st.lists(st.tuples(st.sampled_from(["u1", "u4"]), st.floats(0, 500)), max_size=6))
def test_a_bill_is_never_below_the_time_and_never_a_step_and_a_minimum_above_it(
    pieces: list[tuple[str, float]],
) -> None:
    stretches = merged([Stretch(*piece) for piece in pieces])
    rate = {"u1": 1, "u4": 4}
    exact = sum(one.seconds * rate[one.tier] for one in stretches)
    most = sum((max(one.seconds, 60) + 10) * rate[one.tier] for one in stretches)
    assert exact - 1e-6 <= compute(*stretches) <= most + 1e-6


def test_every_item_has_its_price() -> None:
    prices = Prices(
        machine_per_hour=3.6, storage_gb_month=7.3, keep_days=10, thousand_requests=0.5,
        gb_moved=2.0, tb_scanned=5.0, tiers={"u1": Tier(per_hour=0)},
    )  # fmt: skip
    usage = Usage((), 1000, stored=5e9, requests=4000, moved=3e9, scanned=2e11)
    cost = reckon(prices, usage)
    assert cost.as_json() == pytest.approx(
        {
            "compute": 0, "machine": 1.0, "storage": 5 * 7.3 * 10 / (730 / 24), "requests": 2.0,
            "transfer": 6.0, "scans": 1.0, "total": cost.total,
        }
    )  # fmt: skip
    assert cost.total == pytest.approx(10 + 5 * 7.3 * 240 / 730)


def test_a_price_list_is_read_or_refused(tmp_path: Path) -> None:
    path = tmp_path / "prices.toml"
    path.write_text('currency = "crowns"\ngb_moved = 0.02\n[tiers.u2]\nper_hour = 3\n')
    assert read_prices(path).tiers["u2"].per_hour == 3
    with pytest.raises(RequestError, match="'u8' is not in the price list: use u1, u4"):
        compute(Stretch("u8", 1))
    for document, what in (
        ({"gb_moved": -1}, "gb_moved is -1, and must be 0 or more"),
        ({"per_gb": 1}, "per_gb is no key that is known"),
        ({"tiers": {"u1": {"per_hour": 1, "billing_step": 0}}}, "tiers.u1.billing_step"),
    ):
        with pytest.raises(RequestError, match=what):
            make_prices(document, "x")
    path.write_text("currency = ")
    with pytest.raises(RequestError, match="not valid TOML"):
        read_prices(path)


def trial(tier: str, streams: int, load: float, role: str = "trial") -> Trial:
    one = Configuration(
        part_size=1 << 20,
        packing=Packing(),
        workers=1,
        load_streams=streams,
        batch_rows=0,
        tier=tier,
    )
    phases = {"shape": 1.0, "ship": 0.5, "size": 4.0, "queue": 0.5, "load": load, "finish": 0.1}
    ran = (Stretch(tier, load + 4),)
    return Trial(one, 1, role, sum(phases.values()), phases, 9, 9, 9, 9, "", ran)


def test_tiers_are_held_against_the_smallest() -> None:
    times = {"u1": 80.0, "u2": 44.0, "u8": 20.0}
    trials = [trial(tier, 8, load) for tier, load in times.items()]
    trials += [trial(tier, 1, 90.0) for tier in times]
    # Levers that were not tried everywhere, and warm-ups, tell nothing.
    trials += [trial("u8", 64, 1.0), trial("u1", 8, 1.0, "warm-up")]
    prices = Prices(tiers={f"u{n}": Tier(per_hour=3600 * n) for n in (1, 2, 8)})
    found = by_tier(trials, prices)
    assert found is not None
    levers, rows = found
    assert levers.load_streams == 8
    assert [(row.tier, row.speed_up, row.efficiency) for row in rows] == [
        ("u1", 1.0, 1.0),
        ("u2", pytest.approx(80 / 44), pytest.approx(80 / 44 / 2)),
        ("u8", 4.0, 0.5),
    ]
    assert [row.cost for row in rows] == [84, 2 * 48, 8 * 24]
    assert rows[2].cost_ratio == pytest.approx(192 / 84)
    assert by_tier([trial("u1", 8, 5.0)], prices) is None

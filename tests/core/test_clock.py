"""Millrace's clock: schedules that can be reckoned by hand, sizes, waking, readers, luck."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.work.schedule import list_schedule
from splarn.standin.millrace.clock import SimulatedCompute, Work
from splarn.standin.millrace.physics import EnginePhysics
from splarn.standin.physics import presets, read_physics

STILL = {
    "start_up": 0.0, "resize": 0.0, "contention": 0.0, "coherency": 0.0, "noise": 0.0,
}  # fmt: skip


def compute(tier: str = "u1", **physics: object) -> SimulatedCompute:
    return SimulatedCompute(EnginePhysics(tier=tier, **{**STILL, **physics}))  # type: ignore[arg-type]


@given(
    st.lists(st.tuples(st.floats(0, 3), st.floats(0.01, 9)), min_size=1, max_size=30),
    st.integers(1, 40),
    st.sampled_from(["u1", "u5", "u20"]),
)
def test_without_contention_the_clock_is_a_list_schedule(
    parts: list[tuple[float, float]], streams: int, tier: str
) -> None:
    one = compute(tier)
    times = one.schedule([Work(*part) for part in parts], streams, 0.0)
    expected = list_schedule([sum(part) for part in parts], min(streams, one.slots))
    assert max(time.ended for time in times) == pytest.approx(expected)
    for time, part in zip(times, parts, strict=True):
        assert time.ended - time.begun == pytest.approx(sum(part))


@given(st.integers(1, 40), st.floats(0, 0.2), st.floats(0, 0.01))
def test_parts_at_work_slow_one_another_by_the_scalability_law(
    parts: int, contention: float, coherency: float
) -> None:
    one = compute("u32", contention=contention, coherency=coherency)
    times = one.schedule([Work(0.0, 2.0)] * parts, parts, 0.0)
    slow = 1 + contention * (parts - 1) + coherency * parts * (parts - 1)
    assert {round(time.ended, 6) for time in times} == {round(2.0 * slow, 6)}


def test_a_larger_tier_helps_while_there_are_parts_and_no_longer() -> None:
    def seconds(tier: str) -> float:
        times = compute(tier, contention=0.02).schedule([Work(0.5, 1.0)] * 16, 64, 0.0)
        return max(time.ended for time in times)

    took = {tier: seconds(tier) for tier in ("u1", "u2", "u5", "u8", "u20")}
    assert took["u1"] > took["u2"] > took["u5"] > took["u8"]
    assert took["u8"] == took["u20"]
    assert took["u1"] / took["u5"] < 5


def test_loads_of_others_are_waited_for() -> None:
    one = compute("u1")
    first = one.schedule([Work(0.0, 10.0)] * 2, 2, 0.0)
    second = one.schedule([Work(0.0, 1.0)], 1, 0.0)
    assert second[0].waiting == 0.0
    assert second[0].begun == first[0].ended == 10.0


def test_sizes_and_rest() -> None:
    one = compute("u1", start_up=4.0, resize=2.0, idle_after=60.0)
    assert one.schedule([Work(0.0, 1.0)], 1, 0.5)[0].begun == 4.5
    one.reach(5.5)
    one.resize("u8")
    assert (one.now, one.tier, one.slots) == (7.5, "u8", 16)
    one.resize("u8")
    assert one.now == 7.5
    one.advance(59)
    assert one.schedule([Work(0.0, 1.0)], 1, 0.0)[0].begun == one.now
    one.advance(200)
    assert not one.running
    assert one.schedule([Work(0.0, 1.0)], 1, 0.0)[0].begun == one.now + 4
    with pytest.raises(RequestError, match="u4"):
        one.resize("u4")


def test_readers_take_their_share_of_the_time() -> None:
    one = compute("u1", readers=0.5, readers_period=10.0, readers_busy=0.5)
    # Half the speed for five seconds, all of it for five: 7.5 seconds of work a period.
    (time,) = one.schedule([Work(0.0, 15.0)], 1, 0.0)
    assert time.ended == pytest.approx(20.0)


def test_luck_follows_the_seed() -> None:
    physics = EnginePhysics(noise=0.3, straggler_share=0.5, straggler_factor=4.0)
    drawn = [physics.factor(physics.luck(load, part)) for load in range(40) for part in range(40)]
    again = [physics.factor(physics.luck(load, part)) for load in range(40) for part in range(40)]
    other = EnginePhysics(noise=0.3, straggler_share=0.5, straggler_factor=4.0, seed=2)
    assert drawn == again
    assert drawn[:5] != [other.factor(other.luck(0, part)) for part in range(5)]
    assert 2.2 < sum(drawn) / len(drawn) < 3.0


def test_physics_are_presets_or_files(tmp_path: object) -> None:
    assert presets() == ["crowded", "miniature", "narrow", "rough", "steady"]
    for name in presets():
        found = read_physics(name, "millrace", EnginePhysics)
        assert found.work(4_000_000, 16_000_000, "zstd", "csv") > 0


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("[millrace]\nslots = 3\n", "'slots' is not known"),
        ("[millrace]\nnoise = 'loud'\n", "noise is 'loud', and must be a number"),
        ("[millrace]\ntier = 'u4'\n", "'u4' is none of u1"),
        ("[millrace]\nreaders = 1.0\n", "readers must stay below 1"),
        ("[millrace]\nparse = { xml = 3 }\n", "parse.xml is not known"),
        ("[millrace]\nstraggler_factor = 0.5\n", "straggler_factor cannot be 0.5"),
        ("[mill]\n", r"section \[mill\]"),
    ],
)
def test_wrong_physics_are_refused(tmp_path: object, text: str, what: str) -> None:
    from pathlib import Path

    path = Path(str(tmp_path)) / "physics.toml"
    path.write_text(text)
    with pytest.raises(RequestError, match=what):
        read_physics(str(path), "millrace", EnginePhysics)

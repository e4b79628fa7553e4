"""Runs on their own: parts in line, what is left of a run, drift, parameters, what is kept."""

from __future__ import annotations

import math
import random
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.check.limit import BadRows
from splarn.core.errors import RequestError
from splarn.core.flow.journal import JOURNAL, Journal
from splarn.core.flow.watching import Stand, Watching
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.task import PartResult
from splarn.core.parameters import filled_in, names_in, parse_settings, refuse_unknown
from splarn.core.prices import Prices
from splarn.core.reading.faults import Fault
from splarn.core.run.drift import Delivery, drifted, look_at_delivery
from splarn.core.run.outlook import outlook
from splarn.core.run.steering import Steering
from splarn.core.shape.line import Line
from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.source.codecs import Packing
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import RowSum
from splarn.core.target.notes import PartNote
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan

FORECAST = {
    "seconds": {"low": 80.0, "median": 100.0, "high": 125.0},
    "phases": {"shape": 30.0, "ship": 60.0, "queue": 2.0, "load": 90.0, "finish": 8.0},
}


@given(st.lists(st.lists(st.integers(1, 9), min_size=1, max_size=12), min_size=1, max_size=4),
       st.integers(0, 10_000))  # fmt: skip
def test_parts_are_told_what_lies_before_them_in_whatever_order_they_come(
    files: list[list[int]], seed: int
) -> None:
    made: list[tuple[Part, int]] = []
    for number, ranges in enumerate(files):
        at = rows = 0
        for place, count in enumerate(ranges):
            end = None if place == len(ranges) - 1 else at + 10 * count
            piece = SourceRange(f"f{number}", "none", at, end, rows=count, lines=count,
                                line=2 if at == 0 else None)  # fmt: skip
            made.append((Part(f"p{number}-{place}", "none", 1, 1, count, "", (piece,)), rows))
            at, rows = at + 10 * count, rows + count
    expected = {part.path: before for part, before in made}
    random.Random(seed).shuffle(made)
    given_on: list[Part] = []
    line = Line(given_on.append)
    for part, _ in made:
        line.put(part)
    line.end()
    assert sorted(part.path for part in given_on) == sorted(expected)
    assert {part.path: part.source[0].row for part in given_on} == expected
    assert all(part.source[0].line == expected[part.path] + 2 for part in given_on)


def test_a_part_whose_predecessor_never_comes_is_handed_on_all_the_same() -> None:
    given_on: list[Part] = []
    line = Line(given_on.append)
    piece = SourceRange("f", "none", 50, None, rows=3, lines=3)
    line.put(Part("late", "none", 1, 1, 3, "", (piece,)))
    assert given_on == []
    line.end()
    assert [part.source[0].row for part in given_on] == [None]


def test_what_is_left_follows_the_slowest_stage_and_chances_follow_that() -> None:
    before = outlook(FORECAST, {}, 0.0, 130.0)
    assert before.total == 100.0
    assert before.low < before.total < before.high
    assert before.chance is not None
    assert before.chance > 0.9
    # Half of all is in after half of the time, give or take what each stage still has to do.
    usual = {"shape": Stand(0.6, 18.0), "ship": Stand(0.55, 33.0), "load": Stand(0.5, 45.0)}
    half = outlook(FORECAST, usual, 47.0, 130.0)
    assert half.total == pytest.approx(100.0, rel=0.05)
    assert half.high - half.low < before.high - before.low
    assert half.slow == ""
    # A line that is three times as slow makes it late, and nothing else is to blame.
    slow = {**usual, "ship": Stand(0.2, 45.0), "load": Stand(0.18, 16.0)}
    late = outlook(FORECAST, slow, 47.0, 130.0)
    assert late.slow == "ship"
    assert late.by == pytest.approx(3.0, rel=0.4)
    assert late.total > 180
    assert late.chance is not None
    assert late.chance < 0.05
    over = outlook(FORECAST, dict.fromkeys(("shape", "ship", "load"), Stand(1.0, 90.0)), 95, 90.0)
    assert over.chance == 0.0
    assert math.isclose(over.left, 8.0)


def test_deliveries_unlike_those_before_are_told_by_kind() -> None:
    before = [Delivery(1000 + n, 2, 5000, (), 400, {"toll": 1}) for n in range(3)]
    like = replace(before[0], rows=1300.0)
    assert drifted(like, before) == []
    assert drifted(like, []) == []
    for rows in (0, 50, 20_000):
        assert [one.kind for one in drifted(replace(like, rows=rows), before)] == ["rows"]
    assert drifted(replace(like, rows=None), before) == []
    worse = drifted(replace(like, refused={"toll": 60}), before)
    assert [one.kind for one in worse] == ["types"]
    assert "column toll" in worse[0].words
    assert [one.kind for one in drifted(replace(like, reordered=("a.csv",)), before)] == ["order"]


def test_a_look_at_a_delivery_sees_rows_misfits_and_order(tmp_path: Path) -> None:
    fields = (Field("reading_no", "integer", required=True), Field("toll", "number"))
    layout = Layout("readings", Dialect(header=True), fields)
    rows = "".join(f"{n},{n / 10 if n % 10 else 'dear'}\n" for n in range(1, 1001))
    (tmp_path / "a.csv").write_text("reading_no,toll\n" + rows)
    turned = "".join(f"{n / 10},{n}\n" for n in range(1, 501))
    (tmp_path / "b.csv").write_text("toll,reading_no\n" + turned)
    seen = look_at_delivery([tmp_path / "a.csv", tmp_path / "b.csv"], layout)
    assert seen.rows == pytest.approx(1500, rel=0.05)
    assert seen.refused == {"toll": 100}
    assert seen.sampled == 1500
    assert [Path(one).name.split(",")[0] for one in seen.reordered] == ["b.csv"]
    assert Delivery.read(seen.as_json()) == seen


def test_parameters_fill_templates_and_are_missed_and_refused_by_name() -> None:
    template = "s3://larkmere/${LARK_KEY}/{month}/{kind}_*.csv"
    assert names_in([template]) == {"month", "kind"}
    values = parse_settings(["month=2031-07", "kind=tolls=all"])
    assert filled_in(template, values, "x") == "s3://larkmere/${LARK_KEY}/2031-07/tolls=all_*.csv"
    with pytest.raises(RequestError, match="month"):
        filled_in(template, {"kind": "a"}, "source.paths")
    with pytest.raises(RequestError, match="year"):
        refuse_unknown({"year": "1"}, [template], "the job")
    for wrong in (["month"], ["=3"], ["Month=3"], ["month=1", "month=2"], ["month="]):
        with pytest.raises(RequestError):
            parse_settings(wrong)


def test_a_journal_gives_back_what_it_was_given_of_this_load_alone(tmp_path: Path) -> None:
    note = PartNote("load-1", "p1", "a.csv", "done", 10, 3, 1)
    fault = Fault("a.csv", 2, 1, "toll", "type", "dear", "is no number", "1,dear")
    digests = [ColumnDigest("toll", 3, 0, 6, 1, 3), ColumnDigest("gauge", 3, 0, 0.5, -1.5, 1e300)]
    result = PartResult("a.csv", note, 0.5, 10, 2, digests, RowSum(3, 2**70), [fault], 1)
    journal = Journal(tmp_path, "load-1", {})
    journal.add(result)
    journal.add(replace(result, note=replace(note, part_id="p2", state="open")))
    journal.close()
    with (tmp_path / JOURNAL).open("a") as file:
        file.write('{"load_id": "load-1", "part_id": "p1", "cut of')
    notes = {"p1": note, "p2": replace(note, part_id="p2", state="open")}
    again = Journal(tmp_path, "load-1", notes)
    # A part whose note is not done is not in, whatever was written here.
    assert list(again.found) == ["p1"]
    found = again.found["p1"]
    assert (found.digests, found.row_sum, found.faults) == (digests, result.row_sum, [fault])
    assert found.note == note
    assert Journal(tmp_path, "load-2", notes).found == {}


def _under_way(limits: Limits, share: float, seconds: float) -> tuple[Steering, Watching]:
    """A run of which such a share of loading took so many seconds, forecast to take 90 in all."""
    others = (
        {"lever": "tier", "value": "u2", "seconds": 60.0, "load": 45.0, "size": 2.0, "cost": 12.0},
        {"lever": "tier", "value": "u8", "seconds": 30.0, "load": 12.0, "size": 2.0, "cost": 30.0},
        {"lever": "load_streams", "value": 4, "seconds": 95, "load": 88.0, "size": 0, "cost": 10.0},
    )
    layout = Layout("t", Dialect(), (Field("n", "integer"),))
    own = Configuration(
        part_size=10, packing=Packing(), workers=1, load_streams=2, batch_rows=0, tier="u1"
    )
    forecast = {**FORECAST, "cost": {"low": 9.0, "median": 10.0, "high": 11.0}}
    plan = Plan(
        "plan-1", own, forecast, limits, True, (), ("a.csv",), layout,
        "millrace://x", "t", "create", BadRows(), Volume(100.0, 10), 100, Prices(), "s",
        alternatives=others,
    )  # fmt: skip
    watching = Watching(100.0)
    steering = Steering(plan, watching, True)
    watching.active["load"] = lambda: seconds
    watching.by_target = seconds
    for name in ("shape", "ship"):
        watching.stage(name).ended = True
    watching.stage("load").advance(100 * share)
    return steering, watching


def test_a_late_run_takes_the_cheapest_that_keeps_its_limits_and_none_that_breaks_them() -> None:
    def taken(limits: Limits, share: float, seconds: float) -> tuple[Any, ...]:
        steering, watching = _under_way(limits, share, seconds)
        watching.steer()
        return tuple((one.lever, one.value) for one in steering.changes)

    # As forecast, and with a deadline that it will keep, it goes on as it is.
    assert taken(Limits(deadline=130.0, budget=100.0), 0.5, 45.0) == ()
    # A fifth is in after 40 of 130 seconds: 200 would be needed, and u2 makes them 120.
    assert taken(Limits(deadline=130.0, budget=100.0), 0.2, 40.0) == (("tier", "u2"),)
    # Where that is too late, the one that is in time although it is dearer.
    assert taken(Limits(deadline=90.0, budget=100.0), 0.2, 40.0) == (("tier", "u8"),)
    # Never beyond the budget, nor the forecast's own highest cost where there is none.
    assert taken(Limits(deadline=90.0, budget=30.0), 0.2, 40.0) == (("tier", "u2"),)
    assert taken(Limits(deadline=90.0, budget=12.0), 0.2, 40.0) == ()
    assert taken(Limits(deadline=90.0), 0.2, 40.0) == ()
    # Nothing is judged by the first parts, and nothing gained when most is with the engine.
    assert taken(Limits(deadline=90.0, budget=100.0), 0.03, 40.0) == ()
    steering, watching = _under_way(Limits(deadline=90.0, budget=100.0), 0.2, 40.0)
    steering.course.settled = 99
    watching.steer()
    assert steering.changes == []


def test_a_run_that_changed_is_judged_by_how_it_goes_since() -> None:
    steering, watching = _under_way(Limits(deadline=130.0, budget=100.0), 0.2, 40.0)
    watching.steer()
    assert steering.course.tier == "u2"
    first = steering.outlook()
    assert first.total == pytest.approx(40 + 80 + 10, rel=0.1)
    # Twice as fast from there on, as it was expected: nothing more is changed.
    watching.stage("load").advance(40)
    watching.active["load"] = lambda: 80.0
    watching.by_target = 80.0
    watching.steer()
    assert len(steering.changes) == 1
    assert steering.outlook().total == pytest.approx(130, rel=0.1)

"""Questions and ways of keeping rows as people write them, and what asking is foretold to cost."""

from __future__ import annotations

import calendar
import random
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from splarn.core.errors import RequestError
from splarn.core.inference.infer import infer_layout
from splarn.core.layout import Field
from splarn.core.prices import Prices, Tier
from splarn.core.scans.foretelling import (
    Asking,
    KeptRows,
    Line,
    ScanRequest,
    Scans,
    bills,
    cheapest,
    foretell_scans,
)
from splarn.core.scans.kept import Kept, read_kept, usual_ways
from splarn.core.scans.look import take_look
from splarn.core.scans.questions import (
    Condition,
    Question,
    between,
    check_question,
    read_question,
)
from splarn.core.scans.reads import Read
from splarn.core.scans.written import Sizes
from splarn.core.source.source import Source
from splarn.core.work.pool import Inline

NAMES = st.from_regex(r"[a-z_][a-z_0-9 ]{0,8}[a-z0-9]", fullmatch=True)
CONDITIONS = st.one_of(
    st.builds(Condition, NAMES, st.sampled_from(["2031-04", "LK03", "10..20", "..7", "a b"])),
    st.builds(lambda name, share: Condition(name, f"{share}%", share / 100), NAMES,
              st.sampled_from([0.5, 2, 100])),
)  # fmt: skip
QUESTIONS = st.builds(
    Question,
    st.lists(NAMES, unique=True, max_size=4).map(tuple),
    st.lists(CONDITIONS, max_size=3).map(tuple),
    st.sampled_from([1.0, 0.5, 900.0]),
    st.sampled_from(["", "the tolls of a month"]),
)


@given(QUESTIONS)
def test_questions_read_as_they_are_written(question: Question) -> None:
    assert read_question(question.text()) == question


@given(
    st.sampled_from(["csv", "jsonl", "parquet", ""]),
    st.sampled_from(["", "zstd(3)", "gzip(6)", "none"]),
    st.sampled_from(["", "4MiB", "64MiB"]),
    st.sampled_from(["", "month(entered)", "value(lock) sort(toll)"]),
    st.booleans(),
)
def test_ways_of_keeping_read_as_they_are_written(
    format: str, codec: str, size: str, layout: str, merged: bool
) -> None:
    columns = format in ("parquet", "")
    words = [format, codec, size] + ([layout, "compacted" * merged] if columns else [])
    kept = read_kept(" ".join(word for word in words if word))
    assert read_kept(kept.text()) == kept
    assert (kept.is_text, kept.compacted) == (not columns, columns and merged)


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ("", "asks nothing"),
        ("columns(toll", "cannot be read from 'columns(toll'"),
        ("select(toll)", "'select' is no word of a question"),
        ("colums(toll)", "the nearest is columns"),
        ("where(toll)", "wants a column and a value"),
        ("where(toll 0%)", "a number above 0"),
        ("where(toll 140%)", "at most 100 %"),
        ("monthly(often)", "monthly(often) wants a number"),
        ("columns(toll toll)", "names a column twice"),
        ("columns(tolls)", "is no field (the nearest is toll)"),
        ("where(entered spring)", "is a datetime, which has no such value"),
        ("where(toll 9..3)", "ends before it begins"),
        ("where(toll ..)", "leaves all in"),
    ],
)
def test_what_is_no_question_is_told(written: str, said: str) -> None:
    fields = [Field("toll", "number"), Field("entered", "datetime")]
    with pytest.raises(RequestError) as error:
        check_question(read_question(written), fields)
    assert said in str(error.value)


@given(st.datetimes(datetime(1995, 1, 1), datetime(2060, 1, 1)), st.integers(1, 6))
def test_a_moment_that_is_cut_off_is_all_that_it_can_be(moment: datetime, pieces: int) -> None:
    marks = "%Y-%m-%d %H:%M:%S"
    text = moment.strftime("".join(marks[: 3 * pieces - 1]))
    found = between(Condition("t", text), Field("t", "datetime"))
    known = [*moment.timetuple()[:pieces], *(1, 1, 1, 0, 0, 0)[pieces:]]
    first = datetime(*known)  # type: ignore[arg-type]
    days = calendar.monthrange(first.year, first.month)[1]
    year = 366 if calendar.isleap(first.year) else 365
    lasts = [timedelta(year), timedelta(days), timedelta(1), timedelta(hours=1),
             timedelta(minutes=1), timedelta(seconds=1)][pieces - 1]  # fmt: skip
    since = first - datetime(1970, 1, 1)
    assert found.low == since // timedelta(microseconds=1)
    # At the finest a moment is itself, to the second.
    last = lasts // timedelta(microseconds=1) - 1
    assert found.high == found.low + last
    if pieces <= 3:
        dates = between(Condition("t", text), Field("t", "date"))
        assert (dates.low, dates.high) == (since.days, (since + lasts).days - 1)


def deliver(folder: Path, rows: int, files: int, ordered: bool, seed: int = 3) -> list[Path]:
    """Passages of a year as text, by time or not."""
    made = np.random.default_rng(seed)
    seconds = made.integers(0, 365 * 86_400, rows)
    if ordered:
        seconds.sort()
    table = pa.table({
        "passage_no": np.arange(rows),
        "lock_code": pa.array([f"LK{one:02}" for one in np.minimum(made.zipf(1.5, rows), 30)]),
        "entered": pa.array(np.datetime64("2031-01-01", "s") + seconds),
        "toll": np.round(made.gamma(3, 5, rows), 2),
        "draught_cm": pa.array(made.integers(30, 180, rows), mask=made.random(rows) < 0.2),
    })  # fmt: skip
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / f"passages-{number:02}.csv" for number in range(files)]
    for number, path in enumerate(paths):
        pa.csv.write_csv(table.slice(number * rows // files, rows // files), path)
    return paths


ASKED = ("columns(toll) where(entered 2031-04)", "columns(lock_code) where(lock_code LK07)",
         "where(toll 10..12)", "columns(draught_cm)")  # fmt: skip


def foretold(paths: list[Path], folder: Path, *kept: str, **more: Any) -> Scans:
    request = ScanRequest(
        tuple(map(Source.of, paths)), infer_layout(paths).layout,
        tuple(map(read_question, ASKED)), tuple(map(read_kept, kept)), **more,
    )  # fmt: skip
    return foretell_scans(request, folder, Inline())


def test_a_part_of_a_delivery_tells_of_all_of_it(tmp_path: Path) -> None:
    for ordered, files in ((True, 12), (True, 1), (False, 5)):
        paths = deliver(tmp_path / f"{ordered}-{files}", 150_000, files, ordered)
        layout = infer_layout(paths).layout
        sources = list(map(Source.of, paths))
        look = take_look(sources, layout, ["entered", "lock_code"], Inline(), 3 << 20)
        assert not look.whole
        assert look.read < 4.2e6 < sum(path.stat().st_size for path in paths)
        assert look.rows == pytest.approx(150_000, rel=0.01)
        assert look.weight.sum() == pytest.approx(look.rows)
        # How the rows lie over the year is known far better than by how many of it were read.
        april = pc.equal(pc.month(look.seen.column("entered")), 4).to_numpy(zero_copy_only=False)
        share = look.weight[april].sum() / look.rows
        assert share == pytest.approx(30 / 365, rel=0.05 if ordered else 0.1)
        assert (np.diff(look.at) > 0).all()
        whole = take_look(sources, layout, ["entered"], Inline())
        assert whole.whole
        assert whole.rows == 150_000


def test_beginnings_of_packed_files_stand_for_the_rest(tmp_path: Path) -> None:
    import gzip

    paths = []
    for path in deliver(tmp_path / "plain", 60_000, 4, True):
        packed = tmp_path / f"{path.name}.gz"
        packed.write_bytes(gzip.compress(path.read_bytes()))
        paths.append(packed)
    scans = foretold(paths, tmp_path / "x", "month(entered)", size=1 << 20)
    assert scans.look.heads
    assert scans.look.rows == pytest.approx(60_000, rel=0.1)
    assert scans.ways[0].words == "as delivered: csv gzip"
    assert scans.ways[0].asked[0].read.bytes == sum(path.stat().st_size for path in paths)
    assert not foretold(paths, tmp_path / "y", size=64 << 20).look.heads


def test_a_delivery_in_columns_is_read_by_what_its_footers_tell(tmp_path: Path) -> None:
    texts = deliver(tmp_path / "text", 40_000, 4, True)
    paths = []
    for text in texts:
        path = tmp_path / f"{text.stem}.parquet"
        parquet.write_table(pa.csv.read_csv(text), path, row_group_size=2_000)
        paths.append(path)
    base = foretold(paths, tmp_path / "x").ways[0]
    assert base.words == "as delivered: parquet"
    april, lock, toll, draught = (one.read for one in base.asked)
    # A quarter of the year a file, in groups of 18 days; April begins a day before the second one.
    assert (april.files, april.groups) == (2, 3)
    assert (lock.files, lock.groups, toll.groups, draught.groups) == (4, 20, 20, 20)
    assert toll.bytes > draught.bytes > lock.bytes > april.bytes
    whole = sum(path.stat().st_size for path in paths)
    assert whole <= toll.bytes <= whole + 4 * (64 << 10)


def test_small_files_cost_what_is_read_of_each(tmp_path: Path) -> None:
    paths = deliver(tmp_path / "in", 60_000, 3, False)
    many, merged = foretold(
        paths, tmp_path / "x", "month(entered)", "month(entered) sort(lock_code) compacted"
    ).ways[1:]
    assert (many.files, merged.files) == (36, 12)
    assert many.asked[1].read.requests > 2 * merged.asked[1].read.requests
    small = foretold(paths, tmp_path / "y")
    request = replace(read_kept("month(entered)"), part_bytes=256 << 10)
    shaped = ScanRequest(
        tuple(map(Source.of, paths)), infer_layout(paths).layout, small.questions, (request,)
    )
    smaller = foretell_scans(shaped, tmp_path / "z", Inline()).ways[1]
    assert smaller.files > 3 * many.files
    assert smaller.asked[0].read.bytes > many.asked[0].read.bytes


@given(st.integers(0, 2**32), st.integers(1, 40))
def test_sizes_of_groups_go_through_what_was_written(seed: int, count: int) -> None:
    draw = random.Random(seed)
    rows = np.array([2.0 ** draw.uniform(4, 18) for _ in range(count)])
    sizes = np.stack([rows * draw.uniform(0.1, 8) for _ in range(3)], axis=1)
    known = Sizes.of(rows, sizes)
    assert known.bytes(rows) == pytest.approx(sizes, rel=1e-6)
    more = known.bytes(np.array([1.0, 1e7, 2e7]))
    assert (np.diff(more, axis=0) > 0).all()


def way(kept: Kept | None, size: float, asking: float, writing: float) -> KeptRows:
    read = Read(asking, 10.0, 2.0, 4.0, 100.0)
    return KeptRows(kept, "", 4.0, size, writing, (Asking(read, asking / 1e8),) * 2)


@given(
    st.floats(1e6, 1e12), st.floats(0.001, 0.9), st.floats(1, 1e5), st.floats(0, 9),
    st.sampled_from([(2.0, 3.0), (900.0, 0.5)]),
)  # fmt: skip
def test_writing_has_paid_for_itself_when_what_was_saved_is_as_much(
    size: float, share: float, writing: float, price: float, monthly: tuple[float, float]
) -> None:
    prices = Prices(
        machine_per_hour=price, storage_gb_month=0.02, thousand_requests=0.4, tb_scanned=5,
        tiers={"u1": Tier(per_hour=1)},
    )  # fmt: skip
    asked = tuple(Question(monthly=one) for one in monthly)
    ways = (way(None, size, size, 0), way(Kept("parquet"), size * share, size * share, writing))
    scans = Scans(None, asked, (1.0, 1.0), ways)  # type: ignore[arg-type]
    base, new = bills(scans, prices, 12, Line(1e8, 0.01), "u1", 2)
    assert base.paid_money is None
    assert new.paid_money is not None
    # Money by money: up to then the old way costs as much as the new one and its writing.
    months = new.paid_money / sum(monthly)
    old = months * (base.asking + base.keeping)
    assert old == pytest.approx(new.writing + months * (new.asking + new.keeping), rel=1e-6)
    assert new.writing == pytest.approx(writing / 2 / 3600 * price + 4 / 1000 * 0.4)
    assert new.total == pytest.approx(new.writing + 12 * (new.asking + new.keeping))
    of_one = size / 1e8 + size / 1e8 + 10 * 0.01 / 8
    assert base.seconds == pytest.approx(sum(monthly) * of_one)
    assert cheapest([base, new], 12) is min((base, new), key=lambda one: one.total)
    free = bills(scans, Prices(), 12, Line(), "u1", 1)
    assert free[1].paid_time == pytest.approx(
        writing / (sum(monthly) * (size - size * share) / 1e8) * sum(monthly)
    )
    # What reads more than before never pays.
    worse = Scans(None, asked, (1.0, 1.0), (ways[1], way(Kept("csv"), size, size, 1)))  # type: ignore[arg-type]
    assert bills(worse, prices, 12, Line(), "u1", 1)[1].paid_money is None


def test_the_usual_ways_follow_from_the_questions() -> None:
    fields = [Field("entered", "datetime"), Field("lock", "string"), Field("toll", "number")]
    asked = [read_question("where(toll 3..4) where(entered 2031-04)"),
             read_question("where(lock LK01) monthly(90)")]  # fmt: skip
    assert [one.text() for one in usual_ways(asked, fields, "csv")] == [
        "csv zstd(3)", "parquet plain", "month(entered)", "month(entered) sort(lock toll)",
        "month(entered) sort(lock toll) compacted",
    ]  # fmt: skip
    assert [one.text() for one in usual_ways([Question()], fields, "parquet")] == ["parquet plain"]

"""Typed columns and faults: each kind of misfit is found, and only the misfits."""

from __future__ import annotations

from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.check.checking import check
from splarn.core.errors import RequestError
from splarn.core.layout import LINES, Dialect, Field, Layout
from splarn.core.reading import text_parser
from splarn.core.reading.parsed import Parsed
from splarn.core.records.chunks import record_chunks
from splarn.core.target.digest import add_digests, digest_table
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools
from splarn.demo.scenario import Delivery

FIELDS = (
    Field("number", "integer", required=True),
    Field("boat"),
    Field("entered", "datetime"),
    Field("day", "date", format="%d/%m/%Y"),
    Field("clock", "time"),
    Field("toll", "number", precision=6, scale=2),
    Field("level", "number"),
    Field("loaded", "boolean"),
)
LAYOUT = Layout("gauges", Dialect(header=False), FIELDS)
GOOD = b'7,"Grey ""Otter"", tender",2031-04-05 06:07:08,28/02/2031,06:07:08,12.50,1.5e3,true\n'


def parse(data: bytes, layout: Layout = LAYOUT) -> Parsed:
    (chunk,) = record_chunks([data], layout.dialect, where="text")
    return text_parser(layout, "text").parse(chunk)


def test_good_values_get_their_types() -> None:
    assert parse(GOOD).table.to_pylist() == [
        {
            "number": 7,
            "boat": 'Grey "Otter", tender',
            "entered": datetime(2031, 4, 5, 6, 7, 8),
            "day": date(2031, 2, 28),
            "clock": time(6, 7, 8),
            "toll": Decimal("12.50"),
            "level": 1500.0,
            "loaded": True,
        }
    ]


SPOILED = [
    (GOOD.replace(b"7,", b"seven,", 1), "type", "number", "seven"),
    (GOOD.replace(b"7,", b"0x1F,", 1), "type", "number", "0x1F"),
    (GOOD.replace(b"7,", b",", 1), "required", "number", None),
    (GOOD.replace(b"2031-04-05", b"2031-04-31"), "type", "entered", "2031-04-31 06:07:08"),
    (GOOD.replace(b"28/02", b"30/02"), "type", "day", "30/02/2031"),
    (GOOD.replace(b"28/02", b"28/13"), "type", "day", "28/13/2031"),
    (GOOD.replace(b",06:07:08", b",26:07:08"), "type", "clock", "26:07:08"),
    (GOOD.replace(b"12.50", b"12.505"), "type", "toll", "12.505"),
    (GOOD.replace(b"12.50", b"123456.00"), "type", "toll", "123456.00"),
    (GOOD.replace(b"1.5e3", b"high"), "type", "level", "high"),
    (GOOD.replace(b"true", b"perhaps"), "type", "loaded", "perhaps"),
    (GOOD.replace(b"Grey", b"Gr\xffy"), "encoding", "boat", 'Gr\\xffy "Otter", tender'),
    (GOOD.replace(b"Grey", b"Gr\0y"), "record", None, None),
    (GOOD.replace(b"true", b"tr\rue"), "record", None, None),
    (GOOD.replace(b",true", b""), "columns", None, None),
    (GOOD.replace(b"true", b"true,1"), "columns", None, None),
]


@pytest.mark.parametrize(("record", "kind", "field", "value"), SPOILED)
def test_a_spoiled_record_is_refused_alone(
    record: bytes, kind: str, field: str | None, value: str | None
) -> None:
    parsed = parse(GOOD * 3 + record + GOOD * 2)
    (fault,) = parsed.faults
    assert (fault.kind, fault.field, fault.value) == (kind, field, value)
    assert (fault.row, fault.line) == (4, 4)
    assert parsed.raw(0, 99) == [GOOD * 3, GOOD * 2]
    assert len(parsed.table) == 5
    assert parsed.end_offset(3) == 3 * len(GOOD) + len(record)


def test_the_last_record_may_lack_its_newline_but_not_its_quote() -> None:
    assert not parse(GOOD + GOOD[:-1]).faults
    (fault,) = parse(GOOD + b'8,"Old').faults
    assert (fault.kind, fault.row) == ("record", 2)


def test_empty_text_is_kept_apart_from_nothing_and_quoted_nothing_is_no_number() -> None:
    parsed = parse(GOOD.replace(b'"Grey ""Otter"", tender"', b'""').replace(b"12.50", b'""'))
    assert parsed.table.column("boat").to_pylist() == [""]
    assert parsed.table.column("toll").to_pylist() == [None]


def test_days_without_leading_zeros_follow_their_pattern() -> None:
    parsed = parse(GOOD.replace(b"28/02/2031", b"3/2/2031"))
    assert parsed.table.column("day").to_pylist() == [date(2031, 2, 3)]


def test_other_encodings_are_read_by_their_bytes() -> None:
    latin = Layout("notes", Dialect(header=False, encoding="latin-1"), (Field("a"), Field("b")))
    parsed = parse(b"1,Fr\xf6hlich\n", latin)
    assert parsed.table.column("b").to_pylist() == ["Fröhlich"]


@given(st.lists(st.sampled_from([GOOD, *(entry[0] for entry in SPOILED)]), min_size=1, max_size=25))
def test_digests_and_faults_do_not_depend_on_the_chunks(records: list[bytes]) -> None:
    whole = parse(b"".join(records))
    total = None
    faults = []
    for chunk in record_chunks(records, LAYOUT.dialect, 150, where="text"):
        parsed = text_parser(LAYOUT, "text").parse(chunk)
        total = add_digests(total, digest_table(parsed.table, FIELDS))
        faults += parsed.faults
    assert total == digest_table(whole.table, FIELDS)
    assert faults == list(whole.faults)
    assert len(whole.table) == sum(record == GOOD for record in records)


def test_sums_beyond_64_bits_are_exact() -> None:
    layout = Layout("big", Dialect(header=False), (Field("n", "integer"),))
    values = [2**63 - 1, 2**63 - 2, -(2**62), 5]
    parsed = parse("".join(f"{value}\n" for value in values).encode(), layout)
    (digest,) = digest_table(parsed.table, layout.fields)
    assert digest.sum == sum(values)


@pytest.mark.parametrize("workers", [1, 2])
def test_check_finds_exactly_the_spoiled_rows(
    delivery: Delivery, layout: Layout, workers: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("splarn.core.check.checking.RANGE", 200_000)
    with Pools() as pools:
        result = check(delivery.paths, layout, pools.of(workers))
    assert (result.rows, result.bad) == (delivery.rows, len(delivery.spoiled))
    found = {(Path(fault.path).name, fault.row) for fault in result.faults}
    assert found == {(entry.file, entry.row) for entry in delivery.spoiled}
    for fault in result.faults:
        line = Path(fault.path).read_text().split("\n")[fault.line - 1]
        assert fault.raw.startswith(line)


CONSTRAINED = Layout(
    "gauges",
    Dialect(),
    (
        Field("gauge", required=True, pattern="G[0-9]{2}", unique=True),
        Field("level", "integer", minimum="0", maximum="500"),
        Field("day", "date", minimum="2031-01-01"),
        Field("side", enum=("upper", "lower")),
        Field("note", min_length=2, max_length=5),
        Field("reading", "integer", unique=True),
    ),
)
FIT = "G07,120,2031-04-05,upper,fine,1\n"


@pytest.mark.parametrize(
    ("old", "new", "field", "message"),
    [
        ("G07", "H07", "gauge", "not like the pattern G[0-9]{2}"),
        ("G07", "G077", "gauge", "not like the pattern G[0-9]{2}"),
        ("120", "-1", "level", "below the minimum 0"),
        ("120", "501", "level", "above the maximum 500"),
        ("2031-04-05", "2030-12-31", "day", "below the minimum 2031-01-01"),
        ("upper", "middle", "side", "not an allowed value"),
        ("fine", "f", "note", "shorter than 2 characters"),
        ("fine", "rather wet", "note", "longer than 5 characters"),
    ],
)
@pytest.mark.parametrize("company", ["", "G08,deep,2031-04-05,upper,fine,2\n"])
def test_constraints_refuse_values_of_the_right_type(
    old: str, new: str, field: str, message: str, company: str
) -> None:
    head = ",".join(CONSTRAINED.names) + "\n"
    text = head + FIT + company + FIT.replace(old, new).replace(",1\n", ",3\n") + "G09,,,,,4\n"
    parsed = parse(text.encode(), CONSTRAINED)
    fault = parsed.faults[-1]
    assert (fault.kind, fault.field, fault.message) == ("constraint", field, message)
    assert fault.row == 2 + bool(company)
    assert len(parsed.faults) == 1 + bool(company)
    assert len(parsed.table) == 2 == len(parsed.good)


def test_a_limit_must_be_a_value_of_its_field() -> None:
    layout = Layout("x", Dialect(), (Field("n", "integer", minimum="low"),))
    with pytest.raises(RequestError, match="minimum 'low' of field 'n' is no integer"):
        text_parser(layout, "text")
    for wrong in (
        {"type": "integer", "max_length": 3},
        {"type": "string", "minimum": "a"},
        {"pattern": "("},
    ):
        with pytest.raises(RequestError):
            Field("n", **wrong)  # type: ignore[arg-type]


@pytest.mark.parametrize("workers", [1, 2])
def test_repeats_are_found_across_files_and_ranges(
    tmp_path: Path, workers: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("splarn.core.check.checking.RANGE", 700)
    head = ",".join(CONSTRAINED.names) + "\n"
    rows = [f"G{n:02d},{n},,,,{n}\n" for n in range(100)]
    (tmp_path / "a.csv").write_text(head + "".join(rows[:60]))
    (tmp_path / "b.csv").write_text(head + "".join(rows[50:52] + rows[60:] + [rows[99]]))
    text = "".join(rows[:5]) + "G99,1,,,,77\n"
    (tmp_path / "c.csv").write_text(head + text.replace("G0", "G9").replace("G9", "G1", 0))
    paths = sorted(tmp_path.glob("*.csv"))
    with Pools() as pools:
        found = check(paths, CONSTRAINED, pools.of(workers))
    seen = {(Path(f.path).name, f.row, f.line, f.value) for f in found.faults}
    assert {entry for entry in seen if entry[0] == "b.csv"} == {
        ("b.csv", 1, 2, "G50"),
        ("b.csv", 2, 3, "G51"),
        ("b.csv", 43, 44, "G99"),
    }
    assert {entry[1] for entry in seen if entry[0] == "c.csv"} == {1, 2, 3, 4, 5, 6}
    assert all(f.kind == "unique" for f in found.faults)
    assert found.bad == 9


def test_good_rows_can_be_written_out_and_a_check_stopped(
    delivery: Delivery, layout: Layout, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("splarn.core.check.checking.RANGE", 150_000)
    whole = check(delivery.paths, layout, Inline(), good=tmp_path / "good")
    again = check(sorted((tmp_path / "good").iterdir()), layout, Inline())
    assert (again.rows, again.bad) == (whole.good, 0)
    with pytest.raises(RequestError, match="in use"):
        check(delivery.paths, layout, Inline(), good=tmp_path / "good")
    short = check(delivery.paths, layout, Inline(), limit=1)
    assert short.stopped
    assert 1 <= short.bad < whole.bad
    assert short.rows < whole.rows
    assert not whole.stopped


def test_check_names_what_differs_in_a_header(tmp_path: Path, layout: Layout) -> None:
    path = tmp_path / "other.csv"
    path.write_text("passage_no;lock_code\n1;LK-001\n")
    with pytest.raises(RequestError, match="delimiter"):
        check([path], layout, Inline())
    path.write_text(",".join(layout.names).replace("toll", "fee") + "\n1,,,,,,,,,\n")
    with pytest.raises(RequestError, match="it lacks 'toll'; it adds 'fee'"):
        check([path], layout, Inline())


written_numbers = st.one_of(
    st.integers(-(10**19), 10**19).map(str),
    st.decimals(allow_nan=False, allow_infinity=False, places=6, min_value=-(10**14),
                max_value=10**14).map(lambda one: f"{one:f}"),
    st.tuples(st.integers(-99, 99), st.integers(-400, 400)).map(lambda one: f"{one[0]}e{one[1]}"),
    st.floats(allow_nan=False, allow_infinity=False).map(repr),
)  # fmt: skip


@pytest.mark.parametrize("form", ["csv", "jsonl"])
@pytest.mark.parametrize("digits", [None, 6])
@given(texts=st.lists(written_numbers, min_size=1, max_size=12))
def test_a_number_is_read_as_it_is_written_or_not_at_all(
    form: str, digits: int | None, texts: list[str]
) -> None:
    dialect = Dialect(header=False) if form == "csv" else LINES
    field = Field("v", "number", precision=digits, scale=2 if digits else None)
    layout = Layout("t", dialect, (field,), form)
    lines = texts if form == "csv" else [f'{{"v":{text}}}' for text in texts]
    data = "".join(f"{line}\n" for line in lines).encode()
    (chunk,) = record_chunks([data], dialect, where="here")
    parsed = text_parser(layout, "here").parse(chunk)
    for row, value in zip(parsed.good.tolist(), parsed.table.column(0).to_pylist(), strict=True):
        # A power too small for a double is nothing, as everywhere.
        small = digits is None and abs(Decimal(texts[row])) < 1e-300
        assert Decimal(str(value)) == Decimal(texts[row]) or small
    assert len(parsed.good) + len(parsed.faults) == len(texts)

"""Typed columns and faults: each kind of misfit is found, and only the misfits."""

from __future__ import annotations

from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.check import check
from splarn.core.digest import add_digests, digest_table
from splarn.core.errors import RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.pool import Inline, Pools
from splarn.core.records import record_chunks
from splarn.core.typed import Parsed, Parser
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
    return Parser(layout, "text").parse(chunk)


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
        parsed = Parser(LAYOUT, "text").parse(chunk)
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
    monkeypatch.setattr("splarn.core.check.RANGE", 200_000)
    with Pools() as pools:
        result = check(delivery.paths, layout, pools.of(workers))
    assert (result.rows, result.bad) == (delivery.rows, len(delivery.spoiled))
    found = {(Path(fault.path).name, fault.row) for fault in result.faults}
    assert found == {(entry.file, entry.row) for entry in delivery.spoiled}
    for fault in result.faults:
        line = Path(fault.path).read_text().split("\n")[fault.line - 1]
        assert fault.raw.startswith(line)


def test_check_names_what_differs_in_a_header(tmp_path: Path, layout: Layout) -> None:
    path = tmp_path / "other.csv"
    path.write_text("passage_no;lock_code\n1;LK-001\n")
    with pytest.raises(RequestError, match="delimiter"):
        check([path], layout, Inline())
    path.write_text(",".join(layout.names).replace("toll", "fee") + "\n1,,,,,,,,,\n")
    with pytest.raises(RequestError, match="it lacks 'toll'; it adds 'fee'"):
        check([path], layout, Inline())

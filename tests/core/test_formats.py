"""JSON lines and Parquet: read like delimited text, written from it, and proven row by row."""

from __future__ import annotations

import gzip
import json
from dataclasses import replace
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from splarn.core.check.checking import check
from splarn.core.errors import OutsideError, RequestError, ShortfallError
from splarn.core.inference.infer import infer_layout
from splarn.core.layout import LINES, Dialect, Field, Layout
from splarn.core.reading import read_parsed, text_parser
from splarn.core.reading.text import delimited, json_lines
from splarn.core.records.chunks import record_chunks
from splarn.core.shape import read_manifest
from splarn.core.shape.folder import Unfinished
from splarn.core.shape.keys import Key, parse_keys
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import Shaped, shape
from splarn.core.shape.task import Cut
from splarn.core.shape.verify import verify_parts
from splarn.core.source.codecs import Packing
from splarn.core.source.files import content_hash
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools
from splarn.demo.scenario import Delivery

FIELDS = (
    Field("n", "integer"),
    Field("level", "number"),
    Field("toll", "number", precision=9, scale=3),
    Field("open", "boolean"),
    Field("at", "datetime"),
    Field("day", "date"),
    Field("note"),
    Field("extra", "object"),
)
CSV = Layout("gauges", Dialect(header=False), FIELDS)
JSONL = Layout("gauges", LINES, FIELDS, "jsonl")
ROWS = st.fixed_dictionaries(
    {
        "n": st.none() | st.integers(-(2**63), 2**63 - 1),
        "level": st.none() | st.floats(allow_nan=False, allow_infinity=False),
        "toll": st.none() | st.decimals(-99999, 99999, places=3),
        "open": st.none() | st.booleans(),
        "at": st.none() | st.datetimes(datetime(1700, 1, 1), datetime(2200, 1, 1)),
        "day": st.none() | st.dates(date(1, 1, 1), date(9999, 12, 31)),
        "note": st.none() | st.text(st.characters(exclude_characters="\0", codec="utf-8")),
        "extra": st.none() | st.just('{"a":[1,"b"]}'),
    }
)


@given(st.lists(ROWS, min_size=1, max_size=8))
def test_what_is_written_is_read_back(rows: list[dict[str, Any]]) -> None:
    table = pa.Table.from_pylist(rows, schema=CSV.arrow_schema)
    for layout, data in ((CSV, delimited(table, CSV)), (JSONL, json_lines(table, JSONL))):
        chunks = record_chunks([data], layout.dialect, where="text", offset=1)
        parsed = [text_parser(layout, "text").parse(chunk) for chunk in chunks]
        assert not [fault for part in parsed for fault in part.faults]
        assert pa.concat_tables([part.table for part in parsed]).equals(table)


GOOD = b'{"n":1,"level":2.5,"toll":1.250,"open":true,"at":"2031-04-05T06:07:08","note":"a"}\n'
SPOILED = [
    (GOOD.replace(b"1,", b"1.5,", 1), "type", "n"),
    (GOOD.replace(b"2.5", b'"high"'), "type", "level"),
    (GOOD.replace(b"1.250", b"1.2505"), "type", "toll"),
    (GOOD.replace(b"true", b"2"), "type", "open"),
    (GOOD.replace(b"-04-", b"-14-"), "type", "at"),
    (GOOD.replace(b'"2031-04-05T06:07:08"', b"12"), "type", "at"),
    (GOOD.replace(b'"a"', b'{"b":1}'), "type", "note"),
    (GOOD.replace(b'"a"', b'"a\\u0000"'), "record", "note"),
    (GOOD.replace(b'"a"', b'"\xff"'), "encoding", None),
    (GOOD.replace(b"note", b"memo"), "columns", "memo"),
    (GOOD.replace(b"level", b"n"), "columns", "n"),
    (b'{"n":1\n', "record", None),
    (b"[1]\n", "record", None),
]


@pytest.mark.parametrize(("record", "kind", "field"), SPOILED)
def test_a_spoiled_line_of_json_is_refused_alone(
    record: bytes, kind: str, field: str | None
) -> None:
    data = GOOD * 2 + b"\n" + record + GOOD
    (chunk,) = record_chunks([data], LINES, where="text")
    parsed = text_parser(JSONL, "text").parse(chunk)
    (fault,) = parsed.faults
    assert (fault.kind, fault.field, fault.row, fault.line) == (kind, field, 3, 4)
    assert parsed.raw(0, 9) == [GOOD * 2, GOOD]
    assert parsed.table.column("toll").to_pylist() == [Decimal("1.250")] * 3


def test_bad_bytes_come_with_their_position(tmp_path: Path) -> None:
    path = tmp_path / "notes.csv"
    path.write_bytes(b"1,ok\n2,Fr\xf6hlich\n")
    layout = Layout("notes", Dialect(header=False), (Field("n", "integer"), Field("note")))
    (fault,) = check([path], layout, Inline()).faults
    assert "from byte 9 of the file" in fault.message
    japanese = Layout("notes", Dialect(header=False, encoding="cp1252"), layout.fields)
    path.write_bytes(b"1,ok\n2,Fr\xf6hlich\n3,\x81\n")
    (fault,) = check([path], japanese, Inline()).faults
    assert (fault.kind, fault.row) == ("encoding", 3)
    assert "from byte 18 of the file" in fault.message


def test_marks_of_any_kind_are_read() -> None:
    odd = Layout(
        "odd",
        Dialect(header=False, delimiter="§", escape="\\", trim=True, null_markers=("", "-")),
        (Field("a"), Field("b", "boolean", true_values=("ja",), false_values=("nein",))),
    )
    data = ' x \\" § ja\n"y§ \\"z\\""§nein\n-§ \n"a\x1f§"§ja\n'.encode()
    (chunk,) = record_chunks([data], odd.dialect, where="text")
    assert text_parser(odd, "text").parse(chunk).table.to_pylist() == [
        {"a": 'x "', "b": True},
        {"a": 'y§ "z"', "b": False},
        {"a": None, "b": None},
        {"a": "a\x1f§", "b": True},
    ]
    (chunk,) = record_chunks(["a§vielleicht\nb§ja\\\n".encode()], odd.dialect, where="text")
    assert [fault.kind for fault in text_parser(odd, "text").parse(chunk).faults] == [
        "type",
        "record",
    ]


@pytest.fixture(scope="module")
def rows(delivery: Delivery, layout: Layout) -> list[dict[str, Any]]:
    """The good rows of the delivery."""
    return [
        row
        for path in delivery.paths
        for parsed in read_parsed(path, "none", layout)
        for row in parsed.table.to_pylist()
    ]


def convert(delivery: Delivery, layout: Layout, folder: Path, output: PartsFormat) -> Shaped:
    return shape(delivery.paths, layout, folder, output, Inline(), keep=None)


def rows_in(folder: Path) -> list[dict[str, Any]]:
    manifest = read_manifest(folder)
    return [
        row
        for part in manifest.parts
        for parsed in read_parsed(folder / part.path, part.codec, manifest.layout)
        for row in parsed.table.to_pylist()
    ]


@pytest.mark.parametrize(
    "output",
    [
        PartsFormat("parquet", Packing("zstd", 1), 400_000, row_group_rows=1000),
        PartsFormat("parquet", Packing("snappy"), 0, part_rows=7000, dictionary=False),
        PartsFormat("jsonl", Packing("gzip", 1), 300_000),
        PartsFormat(
            "csv", Packing(), 300_000, header=True, sort_by=(Key("toll", descending=True),)
        ),
    ],
)
def test_conversions_hold_every_good_row_and_set_the_bad_ones_aside(
    delivery: Delivery,
    layout: Layout,
    rows: list[dict[str, Any]],
    tmp_path: Path,
    output: PartsFormat,
) -> None:
    made = convert(delivery, layout, tmp_path / "parts", output)
    found = rows_in(tmp_path / "parts")
    if output.sort_by:
        found.sort(key=lambda row: row["passage_no"])
        rows = sorted(rows, key=lambda row: row["passage_no"])
    assert found == rows
    checked = check(delivery.paths, layout, Inline())
    assert list(made.faults) == checked.faults
    assert verify_parts(made.manifest, layout, False, Inline()) == []
    assert infer_layout([made.manifest.folder / made.manifest.parts[0].path]).layout.names == (
        layout.names
    )
    with pytest.raises(ShortfallError, match="cannot be converted"):
        shape(delivery.paths, layout, tmp_path / "strict", output, Inline())
    assert not list((tmp_path / "strict").glob("*"))


def test_partitions_hold_their_own_rows_sorted(
    delivery: Delivery, layout: Layout, rows: list[dict[str, Any]], tmp_path: Path
) -> None:
    keys = parse_keys("entered:month,direction", layout, True)
    order = parse_keys("lock_code,passage_no:desc", layout, False)
    output = PartsFormat("parquet", Packing("zstd", 1), 1 << 20, sort_by=order, partition_by=keys)
    made = convert(delivery, layout, tmp_path / "parts", output)
    assert verify_parts(made.manifest, layout, False, Inline()) == []
    seen = 0
    for part in made.manifest.parts:
        year, month, direction = (piece.partition("=")[2] for piece in part.path.split("/")[:3])
        inside = parquet.read_table(made.manifest.folder / part.path, partitioning=None).to_pylist()
        assert {f"{row['entered']:%Y %m}" for row in inside} == {f"{year} {month}"}
        assert {row["direction"] for row in inside} == {direction}
        ordered = sorted(inside, key=lambda row: (row["lock_code"], -row["passage_no"]))
        assert inside == ordered
        seen += len(inside)
    assert seen == len(rows)
    with pytest.raises(RequestError, match="folders"):
        many = PartsFormat("csv", Packing(), 1 << 20, partition_by=(Key("passage_no"),))
        convert(delivery, layout, tmp_path / "many", many)


def test_verify_sees_a_row_that_is_not_the_sources(
    delivery: Delivery, layout: Layout, tmp_path: Path
) -> None:
    output = PartsFormat("jsonl", Packing(), 1 << 20)
    manifest = convert(delivery, layout, tmp_path / "parts", output).manifest
    part = manifest.folder / manifest.parts[0].path
    text = part.read_text()
    changed = text.replace('"direction":"up"', '"direction":"down"', 1)
    part.write_text(changed)
    (found,) = verify_parts(manifest, layout, False, Inline())
    assert "hash differs" in found
    lying = replace(manifest.parts[0], hash=content_hash(part))
    told = replace(manifest, parts=(lying, *manifest.parts[1:]))
    (found,) = verify_parts(told, layout, False, Inline())
    assert "do not hold the rows" in found


@pytest.mark.parametrize("format_", ["csv", "jsonl"])
def test_a_packed_file_is_cut_alike_by_any_number_of_workers_and_gone_on_with(
    delivery: Delivery,
    layout: Layout,
    tmp_path: Path,
    format_: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    paths = []
    for number in (0, 3):
        path = tmp_path / f"packed-{number}.csv.gz"
        path.write_bytes(gzip.compress(delivery.paths[number].read_bytes()))
        paths.append(path)
    output = PartsFormat(format_, Packing("zstd", 1), 150_000)
    copies = output.is_copy(layout)
    with Pools() as pools:
        made = [
            shape(paths, layout, tmp_path / str(n), output, pools.threads(n), keep=None)
            for n in (1, 2, 3)
        ]
    parts = [[(p.hash, p.rows, p.source) for p in one.manifest.parts] for one in made]
    assert parts[0] == parts[1] == parts[2]
    assert len(parts[0]) > 4
    for one in made:
        assert verify_parts(one.manifest, layout, copies, Inline()) == []
    broken, kept, add = tmp_path / "broken", 3, Unfinished.add

    def failing(mark: Unfinished, stem: str, cut: Cut) -> None:
        add(mark, stem, cut)
        if len(list(broken.glob("*-0*.zst"))) == kept:
            raise KeyboardInterrupt

    with monkeypatch.context() as patch:
        patch.setattr(Unfinished, "add", failing)
        with pytest.raises(KeyboardInterrupt):
            shape(paths, layout, broken, output, Inline(), keep=None)
    again = shape(paths, layout, broken, output, Inline(), keep=None)
    assert again.resumed == kept
    assert [(p.hash, p.rows, p.source) for p in again.manifest.parts] == parts[0]
    assert again.faults == made[0].faults
    if not copies:
        assert list(again.faults) == check(paths, layout, Inline()).faults


def test_parts_of_so_many_rows(delivery: Delivery, layout: Layout, tmp_path: Path) -> None:
    packed = tmp_path / "packed.csv.gz"
    packed.write_bytes(gzip.compress(delivery.paths[0].read_bytes()))
    output = PartsFormat("csv", Packing(), 0, part_rows=3000)
    made = shape([*delivery.paths, packed], layout, tmp_path / "parts", output, Inline()).manifest
    assert verify_parts(made, layout, True, Inline()) == []
    plain = [part.rows for part in made.parts if part.source[0].codec == "none"]
    assert plain == [3000] * (delivery.rows // 3000) + [delivery.rows % 3000]
    assert all(part.rows <= 3000 for part in made.parts)
    jsonl = PartsFormat("jsonl", Packing(), 1 << 20, part_rows=2500)
    first = shape(delivery.paths, layout, tmp_path / "json", jsonl, Inline(), keep=None).manifest
    paths = [first.folder / part.path for part in first.parts]
    again = PartsFormat("parquet", Packing(), 1 << 20, part_rows=4000)
    second = shape(paths, first.layout, tmp_path / "columnar", again, Inline()).manifest
    assert verify_parts(second, first.layout, False, Inline()) == []
    assert {part.rows for part in second.parts[:-1]} == {4000}


def test_parquet_is_read_whatever_its_types(tmp_path: Path) -> None:
    path = tmp_path / "gauges.parquet"
    stamp = datetime(2031, 4, 5, 6, tzinfo=UTC)
    table = pa.table(
        {
            "small": pa.array([1, None], pa.int8()),
            "huge": pa.array([2**64 - 1, 0], pa.uint64()),
            "code": pa.array(["a", "b"]).dictionary_encode(),
            "at": pa.array([stamp, None], pa.timestamp("ns", "UTC")),
            "raw": pa.array([b"ok", b"\xff"], pa.binary()),
            "more": pa.array([{"a": 1}, None]),
            "list": pa.array([[1, 2], []]),
            "toll": pa.array([Decimal("1.50"), None], pa.decimal128(6, 2)),
        }
    )
    parquet.write_table(table, path)
    inferred = infer_layout([path])
    assert {f.name: f.describe() for f in inferred.layout.fields} == {
        "small": "integer of 16 bits",
        "huge": "number(20,0)",
        "code": "string",
        "at": "datetime",
        "raw": "string",
        "more": "JSON object",
        "list": "JSON array",
        "toll": "number(6,2)",
    }
    assert any("UTC" in note for note in inferred.notes)
    found = check([path], inferred.layout, Inline())
    (fault,) = found.faults
    assert (fault.row, fault.kind, fault.field, found.good) == (2, "encoding", "raw", 1)
    (parsed,) = read_parsed(path, "none", inferred.layout)
    assert parsed.table.to_pylist() == [
        {
            "small": 1,
            "huge": Decimal(2**64 - 1),
            "code": "a",
            "at": stamp.replace(tzinfo=None),
            "raw": "ok",
            "more": '{"a": 1}',
            "list": "[1, 2]",
            "toll": Decimal("1.50"),
        }
    ]
    with pytest.raises(RequestError, match="lacks the column 'gone'"):
        check([path], Layout("g", LINES, (Field("gone"),), "parquet"), Inline())
    with pytest.raises(RequestError, match="is a Parquet file"):
        check([path], CSV, Inline())
    path.write_bytes(path.read_bytes()[:200])
    with pytest.raises(OutsideError, match="damaged"):
        check([path], inferred.layout, Inline())


def test_json_is_inferred_with_its_doubts(tmp_path: Path) -> None:
    path = tmp_path / "gauges.json"
    lines = [
        {
            "gauge": number,
            "level": number / 4,
            "code": f"{number:03d}",
            "at": f"2031-04-05T06:{number % 60:02d}:00",
            "open": number % 2 == 0,
            "site": {"lock": number},
            "mixed": number if number % 3 else str(number),
            **({"seldom": 1} if number == 7 else {}),
        }
        for number in range(600)
    ]
    path.write_text("".join(json.dumps(line) + "\n" for line in lines) + "oops\n")
    inferred = infer_layout([path])
    assert inferred.layout.format == "jsonl"
    assert {f.name: f.describe() for f in inferred.layout.fields} == {
        "gauge": "integer",
        "level": "number(11,2)",
        "code": "string",
        "at": "datetime",
        "open": "boolean",
        "site": "JSON object",
        "mixed": "string",
        "seldom": "integer of 16 bits",
    }
    told = " ".join(inferred.notes)
    assert "several kinds" in told
    assert "1 sampled lines are no JSON" in told
    found = check([path], inferred.layout, Inline())
    assert (found.rows, found.bad) == (601, 1)

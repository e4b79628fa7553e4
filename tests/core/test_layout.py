"""Layouts: guessed from samples with every doubt said, kept as standard JSON, read by hand."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.check.checking import check
from splarn.core.errors import RequestError
from splarn.core.inference.column_types import guess_field
from splarn.core.inference.infer import infer_layout
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.layout.descriptor import from_descriptor, read_layout, to_descriptor
from splarn.core.work.pool import Inline
from splarn.demo.scenario import Delivery


def test_the_deliverys_layout_is_found(delivery: Delivery) -> None:
    inferred = infer_layout(delivery.paths)
    types = {field.name: field.describe() for field in inferred.layout.fields}
    assert types.pop("cargo_t").startswith("number(")
    assert types.pop("toll").startswith("number(")
    assert types == {
        "passage_no": "integer",
        "lock_code": "string",
        "boat": "string",
        "direction": "string",
        "entered": "datetime",
        "cleared": "datetime",
        "draught_cm": "integer of 16 bits",
        "note": "string",
    }
    assert [field.name for field in inferred.layout.fields if field.required] == ["passage_no"]
    assert inferred.layout.dialect == Dialect()


@pytest.mark.parametrize(
    ("values", "expected"),
    [
        (["1", "-20", ""], "integer of 16 bits"),
        (["1", "-20000"], "integer of 32 bits"),
        (["1", "90000000"], "integer"),
        (["yes", "no", "yes"], "boolean as yes or no"),
        (["Y", "Y"], "string"),
        (["0f5e3c6a-8d2b-4c1e-9f7a-1b2c3d4e5f60"], "UUID"),
        (['{"a": [1]}', "{}"], "JSON object"),
        (["[]", "[1, 2]"], "JSON array"),
        (["{}", "["], "string"),
        (["1.5", "20"], "number(11,3)"),
        (["1e5", "2.5"], "number"),
        (["true", "FALSE"], "boolean"),
        (["2031-04-05"], "date"),
        (["2031-04-05 10:11:12"], "datetime"),
        (["2031-04-05T10:11"], "datetime"),
        (["10:11", "23:59:59"], "time"),
        (["25/12/2031", "01/02/2031"], "date as %d/%m/%Y"),
        (["12/25/2031"], "date as %m/%d/%Y"),
        (["05.04.2031 10:11:12"], "datetime as %d.%m.%Y %H:%M:%S"),
        (["LK-001"], "string"),
        (["007", "12"], "string"),
        (["", ""], "string"),
        (["12345678901234567890"], "number(22,0)"),
    ],
)
def test_columns_are_judged_by_their_values(values: list[str], expected: str) -> None:
    assert guess_field("x", values).field.describe() == expected


def test_doubts_are_said() -> None:
    both = guess_field("day", ["01/02/2031", "03/04/2031"])
    assert "%d/%m/%Y and %m/%d/%Y" in both.notes[0]
    assert "leading zeros" in guess_field("code", ["007", "12"]).notes[0]
    spoiled = guess_field("draught", [*map(str, range(300)), "deep"])
    assert spoiled.field.type == "integer"
    assert "'deep'" in spoiled.notes[0]
    assert guess_field("mixed", [*map(str, range(30)), "deep"]).field.type == "string"
    assert guess_field("n", ["1", "NULL", "2"]).field.null_markers == ("", "NULL")


@pytest.mark.parametrize("mark", list(",;\t|"))
def test_delimiters_line_ends_and_missing_headers(tmp_path: Path, mark: str) -> None:
    path = tmp_path / "gauges-01.csv"
    rows = [mark.join(("7", f'"a{mark}b"', "2031-04-05", "NULL")) for _ in range(20)]
    path.write_bytes(b"\r\n".join(row.encode() for row in rows) + b"\r\n")
    inferred = infer_layout([path])
    dialect = inferred.layout.dialect
    assert (dialect.delimiter, dialect.line_end, dialect.header) == (mark, "\r\n", False)
    assert inferred.layout.names == ("field_1", "field_2", "field_3", "field_4")
    assert inferred.layout.name == "gauges"
    assert any("no header" in note for note in inferred.notes)


def test_text_in_another_encoding_is_noticed(tmp_path: Path) -> None:
    path = tmp_path / "boats.csv"
    path.write_bytes("number,boat\n1,Möwe\n2,Fähre\n".encode("cp1252"))
    assert infer_layout([path]).layout.dialect.encoding == "cp1252"
    path.write_bytes("number,boat\n1,Möwe\n".encode("utf-16"))
    wide = infer_layout([path]).layout
    assert (wide.dialect.encoding, wide.names) == ("utf-16-le", ("number", "boat"))


def test_constraints_survive_their_json_and_may_be_written_as_numbers() -> None:
    fields = (
        Field("a", unique=True, min_length=1, max_length=9, pattern="[a-z]+", enum=("x", "y")),
        Field("b", "number", precision=9, scale=2, minimum="-1.5", maximum="1e3"),
        Field("c", "integer", required=True, enum=("1", "2")),
    )
    layout = Layout("any", Dialect(), fields)
    assert from_descriptor(json.loads(json.dumps(to_descriptor(layout))), "text") == layout
    by_hand = {"name": "c", "type": "integer", "constraints": {"minimum": 0, "enum": [1, 2]}}
    (field,) = from_descriptor({"schema": {"fields": [by_hand]}}, "text").fields
    assert (field.minimum, field.enum) == ("0", ("1", "2"))


NAMES = st.text(min_size=1, max_size=9)
FIELDS = st.builds(
    Field,
    name=NAMES,
    type=st.sampled_from(["integer", "boolean", "date", "datetime", "time", "string"]),
    format=st.sampled_from(["default", "%d/%m/%Y"]),
    required=st.booleans(),
) | st.builds(
    Field, NAMES, st.just("number"), precision=st.integers(9, 38), scale=st.integers(0, 9)
)
DIALECTS = st.builds(
    Dialect,
    delimiter=st.sampled_from(list(",;\t|~")),
    quote=st.sampled_from(['"', "'", None]),
    header=st.booleans(),
    line_end=st.sampled_from(["\n", "\r\n"]),
    encoding=st.sampled_from(["utf-8", "latin-1", "cp1252"]),
    null_markers=st.lists(st.sampled_from(["", "NULL", "\\N"]), unique=True).map(tuple),
)


@given(DIALECTS, st.lists(FIELDS, min_size=1, unique_by=lambda field: field.name))
def test_a_layout_survives_its_json(dialect: Dialect, fields: list[Field]) -> None:
    layout = Layout("any", dialect, tuple(fields))
    text = json.dumps(to_descriptor(layout))
    assert from_descriptor(json.loads(text), "text") == layout


def test_a_layout_written_by_hand_needs_only_its_fields(tmp_path: Path) -> None:
    path = tmp_path / "layout.json"
    path.write_text('{"schema": {"fields": [{"name": "a"}]}, "title": "ignored"}')
    assert read_layout(path) == Layout("data", Dialect(), (Field("a"),))


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("{", "not valid JSON at line 1"),
        ("[]", "no JSON object"),
        ("{}", "schema"),
        ('{"schema": {"fields": []}}', "no fields"),
        ('{"schema": {"fields": [{"name": "a"}, {"name": "a"}]}}', "twice"),
        ('{"schema": {"fields": [{"name": "a", "type": "blob"}]}}', "unknown type"),
        (
            '{"schema": {"fields": [{"name": "a"}]}, "dialect": {"delimiter": "a\\nb"}}',
            "one to eight characters",
        ),
        ('{"schema": {"fields": [{"name": "a"}]}, "encoding": "base64"}', "not known"),
        ('{"schema": {"fields": [{"name": "a"}]}, "encoding": "martian"}', "not known"),
    ],
)
def test_layouts_that_are_none_say_why(tmp_path: Path, text: str, what: str) -> None:
    path = tmp_path / "layout.json"
    path.write_text(text)
    with pytest.raises(RequestError, match=what):
        read_layout(path)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("a§b§c\n" + '1§x§"2§"\n' * 30, Dialect(delimiter="§")),
        ("a\x1fb\n" + "1\x1fx\n" * 30, Dialect(delimiter="\x1f")),
        ("a,b\n" + "1,'x, y'\n" * 30, Dialect(quote="'")),
        ("a;b\n" + '1;"x \\" ; y"\n' * 30, Dialect(delimiter=";", escape="\\")),
        ("a,b\n" + '1,"x\\"\n2,"y"\n' * 30, Dialect()),
        ("a|b\n" + "1  | x \n" * 30, Dialect(delimiter="|", trim=True)),
        ("a!b!c\n" + "1!2!3\n" * 30, Dialect(delimiter="!")),
    ],
)
def test_marks_are_found(tmp_path: Path, text: str, expected: Dialect) -> None:
    path = tmp_path / "gauges.csv"
    path.write_text(text, encoding="utf-8")
    inferred = infer_layout([path])
    assert inferred.layout.dialect == expected
    assert not check([path], inferred.layout, Inline()).bad


def test_what_was_seen_is_told(delivery: Delivery) -> None:
    inferred = infer_layout(delivery.paths)
    seen = {one.name: one for one in inferred.seen}
    assert seen["passage_no"].is_unique
    assert seen["direction"].distinct == 2
    assert not seen["direction"].is_unique
    assert 0.3 < seen["cargo_t"].empty / seen["cargo_t"].rows < 0.4
    assert any("cargo_t: empty in" in note and "not as zero" in note for note in inferred.notes)
    assert seen["lock_code"].longest == 6

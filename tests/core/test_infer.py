"""Layouts of awkward deliveries: what is inferred, what is said, and that check agrees with it."""

from __future__ import annotations

import gzip
import json
from pathlib import Path

import pyarrow as pa
import pytest
from pyarrow import parquet

from splarn.core.check.checking import check
from splarn.core.errors import RequestError
from splarn.core.inference.body import is_padded
from splarn.core.inference.column_types import guess_field, look_at
from splarn.core.inference.guess_dialect import guess_marks
from splarn.core.inference.infer import Inferred, infer_layout
from splarn.core.records.splitting import Marks, records_of
from splarn.core.survey import survey
from splarn.core.work.pool import Inline


def infer(folder: Path, **files: str | bytes) -> Inferred:
    """Infers the layout of files of the given content; `__` in a name stands for a dot."""
    paths = []
    for name, content in files.items():
        path = folder / name.replace("__", ".")
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        paths.append(path)
    inferred = infer_layout(paths)
    assert not check(paths, inferred.layout, Inline()).bad
    return inferred


def types(inferred: Inferred) -> list[str]:
    return [field.describe() for field in inferred.layout.fields]


def told(inferred: Inferred) -> str:
    return " / ".join(inferred.notes)


def test_samples_come_from_all_files_and_from_deep_inside(tmp_path: Path) -> None:
    late = "".join(f"{n},{n}\n" for n in range(60_000)) + "".join(
        f"{n},{n}.25\n" for n in range(60_000)
    )
    inferred = infer(tmp_path, a__csv="n,level\n1,2\n", b__csv="n,level\n" + late)
    assert types(inferred)[1].startswith("number(")
    packed = gzip.compress(b"n,level\n" + late.encode())
    assert types(infer(tmp_path, only__gz=packed)) == types(inferred)


def test_day_and_month_in_either_order(tmp_path: Path) -> None:
    both = "day\n" + "".join(f"{n % 12 + 1:02d}/{n % 11 + 1:02d}/2031\n" for n in range(60))
    assert "%d/%m/%Y and %m/%d/%Y" in told(infer(tmp_path, both__csv=both))
    american = infer(tmp_path, us__csv=both + "02/28/2031\n" * 3)
    assert types(american) == ["date as %m/%d/%Y"]
    assert "both" not in told(american)
    dotted = "at;n\n" + "05.04.2031 06:07:08;1\n" * 30
    assert types(infer(tmp_path, dotted__csv=dotted))[0] == "datetime as %d.%m.%Y %H:%M:%S"


def test_null_words_padding_and_codes(tmp_path: Path) -> None:
    text = "code|toll|seen|flag\n" + "007|NULL| yes |Y\n120| 1.50 |no|N\n" * 40
    inferred = infer(tmp_path, a__csv=text)
    dialect = inferred.layout.dialect
    assert (dialect.trim, dialect.null_markers, dialect.delimiter) == (True, ("",), "|")
    assert [field.null_markers for field in inferred.layout.fields] == [
        None, ("", "NULL"), None, None,
    ]  # fmt: skip
    assert types(inferred) == [
        "string", "number(9,2)", "boolean as yes or no", "boolean as Y or N",
    ]  # fmt: skip
    assert "leading zeros" in told(inferred)
    assert "padded" in told(inferred)


def test_one_column_and_no_header(tmp_path: Path) -> None:
    inferred = infer(tmp_path, a__csv="12\n13\n14\n")
    assert inferred.layout.names == ("field_1",)
    assert "only one column" not in told(inferred)
    assert not inferred.layout.dialect.header
    named = infer(tmp_path, b__csv="gauge\n12\n13\n")
    assert named.layout.dialect.header


def test_a_byte_order_mark_and_quoted_line_breaks(tmp_path: Path) -> None:
    rows = "".join(f'{n},"two\nlines, ""{n}"""\n' for n in range(300))
    inferred = infer(tmp_path, a__csv=b"\xef\xbb\xbf" + f"n,note\n{rows}".encode())
    assert inferred.layout.names == ("n", "note")
    assert inferred.rows_sampled == 300
    assert inferred.seen[1].longest > 12


def test_formats_may_not_be_mixed(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("n,note\n1,x\n")
    (tmp_path / "b.jsonl").write_text('{"n": 1}\n')
    with pytest.raises(RequestError, match="several formats"):
        infer_layout([tmp_path / "a.csv", tmp_path / "b.jsonl"])
    with pytest.raises(RequestError, match="no JSON object"):
        (tmp_path / "c.jsonl").write_text("{no json\n" * 4)
        infer_layout([tmp_path / "c.jsonl"])


def test_json_kinds_that_differ_now_and_then(tmp_path: Path) -> None:
    lines = [json.dumps({"n": n, "deep": {"a": [n]}, "ok": None}) for n in range(300)]
    lines[7] = json.dumps({"n": "seven", "deep": {}, "ok": None})
    path = tmp_path / "a.jsonl"
    path.write_text("\n".join(lines))
    inferred = infer_layout([path])
    assert types(inferred) == ["integer of 16 bits", "JSON object", "string"]
    assert "n: 1 sampled values are no integer" in told(inferred)
    assert "ok: never filled" in told(inferred)
    found = check([path], inferred.layout, Inline())
    assert [(fault.row, fault.field, fault.value) for fault in found.faults] == [(8, "n", "seven")]
    assert found.rows == 300


def test_columnar_schemas_are_compared(tmp_path: Path) -> None:
    parquet.write_table(pa.table({"n": [1], "a": ["x"]}), tmp_path / "a.parquet")
    parquet.write_table(pa.table({"n": ["1"], "a": ["x"]}), tmp_path / "b.parquet")
    inferred = infer_layout([tmp_path / "a.parquet", tmp_path / "b.parquet"])
    assert "another schema" in told(inferred)
    assert (inferred.layout.format, inferred.rows_sampled) == ("parquet", 1)
    kinds = [finding.kind for finding in survey(sorted(tmp_path.glob("*.parquet"))).findings]
    assert kinds == ["mixed-headers"]
    strict = pa.schema([pa.field("n", pa.int16(), nullable=False), pa.field("w", pa.date64())])
    parquet.write_table(
        pa.table({"n": [1], "w": [None]}, schema=strict), tmp_path / "strict.parquet"
    )
    fields = infer_layout([tmp_path / "strict.parquet"]).layout.fields
    assert [(f.describe(), f.required) for f in fields] == [
        ("integer of 16 bits", True),
        ("date", False),
    ]


def test_marks_are_scored_by_the_columns_they_give() -> None:
    assert guess_marks(["a;b\n1;2,5\n3;4,5\n"]).marks.delimiter == ";"
    assert guess_marks(["a,b\n1,2\n"], ";").marks.delimiter == ";"
    assert guess_marks(["a b\n1 2\n3 4\n"]).marks.delimiter == " "
    assert guess_marks(["It rained; a lot, it\nseems.\nNo one, but Ann, came\n"]).marks.score == 0
    found = records_of('1,a\0b\n2,"c\rd"\n', Marks(","))
    assert [(record.line, record.cells) for record in found] == [
        (1, ("1", "a\0b")), (2, ("2", "c\rd")),
    ]  # fmt: skip
    assert is_padded([["a ", "b"], ["c ", "d"]], Marks(","))
    assert not is_padded([["a ", "b"], ["c", "d"], ["e", "f"]], Marks(","))


def test_what_is_seen_of_a_field() -> None:
    seen = look_at("x", ["a", "bbb", None, "a"])
    assert (seen.rows, seen.empty, seen.distinct, seen.longest, seen.example) == (4, 1, 2, 3, "a")
    assert not seen.is_unique
    assert look_at("x", [str(n) for n in range(30)]).is_unique
    assert look_at("x", []).example == ""
    assert guess_field("x", ["", " "]).field.type == "string"
    assert guess_field("when", ["10:11", "", "12:13"]).notes == (
        "when: empty in 33.3% of the sampled rows; read as no value",
    )

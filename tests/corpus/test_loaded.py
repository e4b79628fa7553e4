"""Ugly files in the tables of every engine, and deliveries that are archives, sheets or several."""

from __future__ import annotations

import io
import json
import os
import sqlite3
import tarfile
import zipfile
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from openpyxl import Workbook
from pyarrow import parquet

from splarn.core.errors import OutsideError
from splarn.core.source.files import opened_up
from tests.conftest import Splarn, Zygote, ask
from tests.corpus.cases import CASES
from tests.corpus.test_cases import shown

LOADED = (
    "data-frame", "years", "one-padded", "own-nulls", "brackets", "zones", "words", "sheet-title",
    "footer", "ragged", "header-only", "cr", "utf-16", "json-array", "json-mixed", "long-digits",
)  # fmt: skip


@pytest.fixture(scope="module")
def layouts(zygote: Zygote, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What the program says of how the files read, which is the same for all targets."""
    home, notes = tmp_path_factory.mktemp("layouts"), tmp_path_factory.mktemp("notes")
    for name in LOADED:
        (home / name).write_bytes(CASES[name].data)
        ran = zygote.run(["layout", name, "--out", f"{name}.json"], home, dict(os.environ), notes)
        assert ran.code == 0, ran.err
    return home


def test_ugly_files_are_in_the_table_as_they_were_read(
    splarn: Splarn, tmp_path: Path, target: str, table: str, layouts: Path
) -> None:
    mark = "`" if target.startswith("mariadb") else '"'
    for number, name in enumerate(LOADED):
        case = CASES[name]
        (tmp_path / name).write_bytes(case.data)
        (tmp_path / f"{name}.json").write_text((layouts / f"{name}.json").read_text())
        into = f"{table}_{number}"
        words = ["load", name, "--layout", f"{name}.json", "--to", target, "--table", into]
        ran = splarn(*words, "--bad-rows", "set-aside", "--json")
        assert ran.code == 0, ran.err
        assert ran.json["verified"], name
        columns = ", ".join(f"{mark}{one}{mark}" for one in case.names)
        found = {tuple(map(_told, row)) for row in ask(target, f"SELECT {columns} FROM {into}")}
        wanted = {tuple(map(_told, row)) for row in case.cells}
        assert wanted <= found, f"{name}: {wanted - found} not in {list(found)[:3]}"
        if case.rows is not None:
            assert ran.json["rows_loaded"] == case.rows - case.bad


def _told(value: Any) -> str | None:
    """A value of any engine as short text; what engines have as numbers, words are too."""
    if isinstance(value, (datetime, date, time)):
        return str(value)
    text = shown(value)
    if text in ("true", "false"):
        return "1" if text == "true" else "0"
    if text is not None and text.startswith("{"):
        return json.dumps(json.loads(text))
    return text


def test_decimals_are_the_nearest_doubles_in_sqlite(splarn: Splarn, tmp_path: Path) -> None:
    values = [f"{n}.{m}" for n in range(1, 40) for m in ("1", "7", "05", "33")]
    (tmp_path / "tolls.csv").write_text("toll\n" + "\n".join(values) + "\n")
    ran = splarn("load", "tolls.csv", "--to", "sqlite:///t.db", "--table", "t")
    assert ran.code == 0, ran.err
    with sqlite3.connect(tmp_path / "t.db") as base:
        found = [row[0] for row in base.execute("SELECT toll FROM t ORDER BY rowid")]
    assert found == [float(value) for value in values]


def test_extremes_arrive_or_are_faults_on_every_engine(
    splarn: Splarn, tmp_path: Path, target: str, table: str
) -> None:
    day, last = 86_400_000_000, 253_402_300_799_999_999
    odd = pa.table({
        "n": pa.array(range(7), pa.int32()),
        "level": pa.array([1.5, float("nan"), None, -0.0, 1e300, 2.5, 0.1]),
        "note": pa.array(["a", "b\0c", "ü", "", "x", None, "y"]),
        "at": pa.array([last, 0, last + 1, -day, 1, None, -62_135_596_800_000_000],
                       pa.timestamp("us")),
        "fine": pa.array([1000, 0, 0, 1, None, 5000, 0], pa.timestamp("ns")),
        "tags": pa.array([[b"ab"], [], [], [], [b"\xff\0", None], None, []], pa.list_(pa.binary())),
    })  # fmt: skip
    parquet.write_table(odd, tmp_path / "odd.parquet")
    assert splarn("layout", "odd.parquet", "--out", "layout.json").code == 0
    words = ["load", "odd.parquet", "--layout", "layout.json", "--to", target, "--table", table]
    ran = splarn(*words, "--bad-rows", "set-aside", "--json")
    assert ran.code == 0, ran.err
    found = (ran.json["rows_loaded"], ran.json["rows_rejected"], ran.json["verified"])
    assert found == (4, 3, True)
    rows = ask(target, f"SELECT n, level, tags FROM {table} ORDER BY n")
    assert [row[0] for row in rows] == [0, 4, 5, 6]
    tags = [one if isinstance(one, list) else json.loads(one) for _, _, one in rows[:2]]
    assert tags == [["ab"], ["ff00", None]]
    text = "".join(f"2031-01-{n % 28 + 1:02d} 10:00:00,{n}.5\n" for n in range(200))
    text += "9999-12-31 23:59:59.999999,1.5\n0000-01-01 00:00:00,2.5\n2031-01-01 10:00:00,01.5\n"
    (tmp_path / "odd.csv").write_text("at,toll\n" + text)
    fields = [{"name": "at", "type": "datetime", "format": "%Y-%m-%d %H:%M:%S"},
              {"name": "toll", "type": "number", "precision": 9, "scale": 2}]  # fmt: skip
    (tmp_path / "odd.json").write_text(json.dumps({"schema": {"fields": fields}}))
    words = ["load", "odd.csv", "--layout", "odd.json", "--to", target, "--table", f"{table}_c"]
    ran = splarn(*words, "--bad-rows", "set-aside", "--json")
    assert (ran.code, ran.json["rows_loaded"], ran.json["verified"]) == (0, 201, True), ran.err


def test_a_wide_table_is_verified_in_pieces(
    splarn: Splarn, tmp_path: Path, target: str, table: str
) -> None:
    names = [f"c{number}" for number in range(700)]
    rows = [",".join(str(row * at % 97) for at in range(700)) for row in range(20)]
    (tmp_path / "wide.csv").write_text("\n".join([",".join(names), *rows]) + "\n")
    ran = splarn("load", "wide.csv", "--to", target, "--table", table, "--json")
    assert (ran.code, ran.json["verified"]) == (0, True), ran.err


def test_a_null_in_a_lone_column_survives_shaping(splarn: Splarn, tmp_path: Path) -> None:
    (tmp_path / "a.jsonl").write_text('{"note": "x"}\n{"note": null}\n{"note": ""}\n' * 5)
    words = ["shape", "a.jsonl", "--into", "parts", "--format", "csv", "--verify", "--json"]
    ran = splarn(*words)
    assert ran.code == 0, ran.err
    checked = splarn("check", "parts", "--json").json
    assert (checked["rows"], checked["bad"]) == (15, 0)


def test_faults_of_parts_name_the_delivery(splarn: Splarn, tmp_path: Path) -> None:
    text = "Tolls\n\nno,toll\n" + "".join(f"{n},{n}.5\n" for n in range(900))
    (tmp_path / "a.csv").write_text(text.replace("700,700.5", "700,dear"))
    assert splarn("layout", "a.csv", "--out", "layout.json").code == 0
    shaped = splarn("shape", "a.csv", "--layout", "layout.json", "--into", "p",
                    "--part-size", "1KiB")  # fmt: skip
    assert shaped.code == 0, shaped.err
    (fault,) = splarn("check", "p", "--json").json["faults"]
    assert (fault["path"], fault["line"]) == ("a.csv", 704)


TEXT = "passage_no,lock\n" + "".join(f"{n},L{n % 7}\n" for n in range(1, 60))


def test_archives_are_folders_of_files(splarn: Splarn, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "a.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("in/one.csv", TEXT)
        archive.writestr("in/two.csv", TEXT.replace("L", "M"))
        archive.writestr("__MACOSX/._one.csv", "\0\5")
        archive.writestr("README.md", "read me")
    with tarfile.open(tmp_path / "b.tar.gz", "w:gz") as tape:
        data = TEXT.replace("L", "T").encode()
        entry = tarfile.TarInfo("three.csv")
        entry.size = len(data)
        tape.addfile(entry, io.BytesIO(data))
    both = ["a.zip", "b.tar.gz"]
    assert splarn("layout", *both, "--out", "layout.json").code == 0
    layout = ["--layout", "layout.json"]
    checked = splarn("check", *both, *layout, "--json").json
    surveyed = splarn("survey", *both, "--exact", "--json").json
    assert (checked["rows"], checked["bad"]) == (177, 0)
    assert [file["rows"] for file in surveyed["files"]] == [59, 59, 59]
    assert surveyed["files"][0]["path"] == "a.zip!/in/one.csv"
    loaded = splarn("load", *both, *layout, "--to", "sqlite:///t.db", "--table", "t", "--json")
    assert (loaded.json["rows_loaded"], loaded.json["verified"]) == (177, True)
    again = splarn("load", "a.zip!/in/two.csv", *layout, "--to", "sqlite:///t.db", "--table", "t",
                   "--table-mode", "append")  # fmt: skip
    assert (again.code, "already" in again.err) == (2, True)
    shaped = splarn("shape", *both, *layout, "--into", "parts", "--verify", "--json")
    assert shaped.code == 0, shaped.err
    (tmp_path / "torn.zip").write_bytes((tmp_path / "a.zip").read_bytes()[:200])
    torn = splarn("survey", "torn.zip")
    assert (torn.code, "is damaged" in torn.err) == (3, True)


def test_spreadsheets_are_folders_of_sheets(splarn: Splarn, tmp_path: Path) -> None:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Tolls"
    for row in (["Tolls of the Larkmere"], [], ["no", "day", "code", "toll", "open"]):
        sheet.append(row)
    for n in range(1, 30):
        sheet.append([n, date(2031, 3, n), f"{n:03d}", n * 1.25, n % 2 == 0])
    locks = book.create_sheet("Locks")
    locks.append(["lock", "keeper"])
    locks.append(["Low, Weir", "Ada"])
    book.create_sheet("Nothing")
    book.save(tmp_path / "book.xlsx")
    assert [one.name for one in opened_up([tmp_path / "book.xlsx"])] == ["Tolls", "Locks"]
    assert splarn("layout", "book.xlsx", "--out", "layout.json").code == 0
    layout = json.loads((tmp_path / "layout.json").read_text())
    kinds = [field["type"] for field in layout["schema"]["fields"]]
    assert kinds == ["integer", "date", "string", "number", "boolean"]
    assert (tmp_path / "layout.Locks.json").exists()
    ran = splarn("load", "book.xlsx!/Tolls", "--layout", "layout.json", "--to", "sqlite:///t.db",
                 "--table", "t", "--json")  # fmt: skip
    assert (ran.json["rows_loaded"], ran.json["verified"]) == (29, True)
    with sqlite3.connect(tmp_path / "t.db") as base:
        assert base.execute("SELECT * FROM t WHERE no = 7").fetchall() == [
            (7, "2031-03-07", "007", 8.75, 0)
        ]
    (tmp_path / "bad.xlsx").write_bytes((tmp_path / "book.xlsx").read_bytes()[:900])
    with pytest.raises(OutsideError, match="damaged"):
        opened_up([tmp_path / "bad.xlsx"])


def test_a_delivery_of_several_layouts_is_grouped(splarn: Splarn, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "a.csv").write_text("id,lock,toll\n" + "1,Low,2.5\n2,Up,3\n" * 9)
    (folder / "b.csv").write_text("toll,id,lock\n" + '7.5,8,"Fen, old"\n' * 9)
    (folder / "boats.csv").write_text("boat;length\nAda;12,5\nHeron;7,25\n")
    (folder / "gauge.json").write_text('[{"gauge": 1, "at": {"lock": "Low"}}]')
    ran = splarn("layout", "in", "--out", "layout.json", "--flatten", "--review", "--json")
    assert ran.code == 0, ran.err
    assert "3 kinds" in ran.err
    kinds = [ran.json, *ran.json["others"]]
    assert [one["out"] for one in kinds] == [
        "layout.json", "layout.gauge.json", "layout.boats.json",
    ]  # fmt: skip
    assert any("another order" in note for note in ran.json["notes"])
    assert [field["name"] for field in kinds[1]["layout"]["schema"]["fields"]] == [
        "gauge", "at.lock",
    ]  # fmt: skip
    evidence = ran.json["evidence"][2]
    assert evidence["common"][0] in (["7.5", 9], ["2.5", 9], ["3", 9])
    assert ["string", 27] in evidence["alternatives"]
    words = ["in/a.csv", "in/b.csv", "--layout", "layout.json"]
    assert splarn("check", *words, "--json").json["bad"] == 0
    loaded = splarn("load", *words, "--to", "sqlite:///t.db", "--table", "t")
    assert loaded.code == 0, loaded.err
    with sqlite3.connect(tmp_path / "t.db") as base:
        found = base.execute("SELECT DISTINCT id, lock, toll FROM t ORDER BY id").fetchall()
    assert found == [(1, "Low", 2.5), (2, "Up", 3.0), (8, "Fen, old", 7.5)]
    nested = ["in/gauge.json", "--layout", "layout.gauge.json", "--to", "sqlite:///t.db"]
    assert splarn("load", *nested, "--table", "g").code == 0
    with sqlite3.connect(tmp_path / "t.db") as base:
        assert base.execute('SELECT "at.lock" FROM g').fetchall() == [("Low",)]


def test_nested_parquet_is_flattened_by_choice(splarn: Splarn, tmp_path: Path) -> None:
    nested = pa.table({
        "n": [1, 2, 3],
        "at": [{"lock": "Low", "pos": {"x": 1.5}}, None, {"lock": None, "pos": {"x": 2.5}}],
    })  # fmt: skip
    parquet.write_table(nested, tmp_path / "n.parquet")
    assert splarn("layout", "n.parquet", "--flatten", "--out", "layout.json").code == 0
    ran = splarn("load", "n.parquet", "--layout", "layout.json", "--to", "sqlite:///t.db",
                 "--table", "t", "--json")  # fmt: skip
    assert (ran.code, ran.json["verified"]) == (0, True), ran.err
    with sqlite3.connect(tmp_path / "t.db") as base:
        found = base.execute('SELECT n, "at.lock", "at.pos.x" FROM t ORDER BY n').fetchall()
    assert found == [(1, "Low", 1.5), (2, None, None), (3, None, 2.5)]


def test_a_header_of_two_lines_is_read_by_choice(splarn: Splarn, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("level,,lock\nupper,lower,\n" + "1.5,2.5,Low\n" * 9)
    fields = [{"name": "level upper", "type": "number"}, {"name": "lower", "type": "number"},
              {"name": "lock"}]  # fmt: skip
    layout = {"dialect": {"headerRows": [1, 2]}, "schema": {"fields": fields}}
    (tmp_path / "layout.json").write_text(json.dumps(layout))
    checked = splarn("check", "a.csv", "--layout", "layout.json", "--json")
    assert (checked.code, checked.json["rows"], checked.json["bad"]) == (0, 9, 0), checked.err


def test_two_near_delimiters_are_both_named(splarn: Splarn, tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("Low:7 Ada\nUp:9 Bob\nFen:3 Cid\n" * 9)
    told = splarn("layout", "a.txt")
    assert told.code == 0
    assert "nearly as well; --delimiter settles it" in told.out


def test_odd_values_are_shown_with_their_place(splarn: Splarn, tmp_path: Path) -> None:
    values = [str(n) for n in range(200)]
    values[77] = "deep"
    (tmp_path / "a.csv").write_text("level\n" + "\n".join(values) + "\n")
    ran = splarn("layout", "a.csv", "--review")
    assert "odd: 'deep' in a.csv, line 79" in ran.out
    assert "string (all fit)" in ran.out
    lines = [json.dumps({"level": n, "lock": "Low"}) for n in range(200)]
    lines[77] = json.dumps({"level": "deep", "lock": "Low"})
    (tmp_path / "a.jsonl").write_text("\n".join(lines) + "\n")
    assert "odd: 'deep' in a.jsonl, line 78" in splarn("layout", "a.jsonl", "--review").out

"""A layout made for one file meets another: nothing is lost, or read otherwise, without a word."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import pytest

from splarn.core.check.checking import CheckResult, check
from splarn.core.errors import RequestError
from splarn.core.inference.infer import infer_layout
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.reading import read_parsed
from splarn.core.reading.sources import read_sources
from splarn.core.source.files import opened_up
from splarn.core.work.pool import Inline
from tests.conftest import Splarn

TOLLS = "".join(f"{n},L{n % 7},{n}.5\n" for n in range(1, 40))


def written(folder: Path, name: str, text: str) -> Path:
    path = folder / name
    path.write_text(text)
    return path


def rows_of(path: Path, layout: Layout) -> list[tuple[object, ...]]:
    (source,) = read_sources([path], layout)
    return [
        tuple(row.values())
        for parsed in read_parsed(source.place, source.codec, layout)
        for row in parsed.table.to_pylist()
    ]


def checked(path: Path, layout: Layout) -> CheckResult:
    return check([path], layout, Inline())


def test_a_file_without_the_remark_keeps_its_last_records(tmp_path: Path) -> None:
    june = written(tmp_path, "june.csv", f"no,lock,toll\n{TOLLS}\nSource: the weir keeper\n")
    layout = infer_layout([june]).layout
    assert layout.dialect.footer == 1
    july = written(tmp_path, "july.csv", f"no,lock,toll\n{TOLLS}")
    for path in (june, july):
        found = checked(path, layout)
        assert (found.rows, found.bad) == (39, 0)
    # Fewer remarks than the layout knows of, and a total, which is a record of its own.
    more = Layout(layout.name, Dialect(footer=3), layout.fields)
    assert checked(june, more).rows == 39
    total = written(tmp_path, "total.csv", f"no,lock,toll\n{TOLLS}Total,,780.5\n")
    assert [fault.row for fault in checked(total, layout).faults] == [40]


def test_lines_passed_over_before_records_are_looked_at(tmp_path: Path) -> None:
    first = written(tmp_path, "a.csv", f"39 tolls of June\n{TOLLS}")
    layout = infer_layout([first]).layout
    assert (layout.dialect.before, layout.dialect.header) == (1, False)
    assert checked(first, layout).rows == 39
    other = written(tmp_path, "b.csv", TOLLS)
    with pytest.raises(RequestError, match="hold a record"):
        checked(other, layout)


def test_comments_are_told_wherever_a_block_begins(tmp_path: Path) -> None:
    lines = [f"{n},{'x' * 50}\n" if n % 5 else f"# of {n} {'y' * 46}\n" for n in range(1, 40_000)]
    path = written(tmp_path, "a.csv", "no,note\n" + "".join(lines))
    layout = infer_layout([path]).layout
    assert layout.dialect.comment == "#"
    found = checked(path, layout)
    assert (found.rows, found.bad) == (sum(not line.startswith("#") for line in lines), 0)


def test_another_currency_is_no_amount_of_this_one(tmp_path: Path) -> None:
    path = written(tmp_path, "a.csv", "toll\n" + "$1.50\n$2\n3.25\n" * 9)
    layout = infer_layout([path]).layout
    assert rows_of(path, layout)[:1] and layout.fields[0].sign == "$"
    other = written(tmp_path, "b.csv", "toll\n$1.50\n€2\n2 USD\n5%\n7\n")
    assert [fault.value for fault in checked(other, layout).faults] == ["€2", "2 USD", "5%"]
    share = infer_layout([written(tmp_path, "c.csv", "share\n" + "5%\n12.5%\n" * 9)]).layout
    mixed = written(tmp_path, "d.csv", "share\n5%\n0.5\n")
    assert [fault.value for fault in checked(mixed, share).faults] == ["0.5"]


def test_columns_in_another_order_keep_their_quotes_and_faults(tmp_path: Path) -> None:
    fields = (Field("no", "integer"), Field("note"), Field("lock"))
    layout = Layout("a", Dialect(escape="\\"), fields)
    text = 'lock,no,note\nLow,1,"a \\"b\\", c"\nUp,2\nFen,3,"two\nlines"\r\n\nEnd,4,x'
    path = written(tmp_path, "a.csv", text)
    assert rows_of(path, layout) == [
        (1, 'a "b", c', "Low"), (3, "two\nlines", "Fen"), (4, "x", "End"),
    ]  # fmt: skip
    (fault,) = checked(path, layout).faults
    assert (fault.line, fault.kind) == (3, "columns")


def test_a_value_too_wide_for_its_column_is_a_fault(tmp_path: Path) -> None:
    lines = [f"New Weir {n:<6}{n:>5}\n" for n in range(1, 30)]
    text = "place          level\n" + "".join(lines)
    layout = infer_layout([written(tmp_path, "a.txt", text)]).layout
    assert layout.dialect.widths
    wide = written(tmp_path, "b.txt", text + "The old weir at Fen   12\n")
    found = checked(wide, layout)
    assert (found.rows, found.bad) == (30, 1)
    # Where columns touch throughout, the places alone tell.
    packed = Layout("p", Dialect(header=False, quote=None, widths=(2, 3)),
                    (Field("a", "integer"), Field("b")))  # fmt: skip
    assert rows_of(written(tmp_path, "c.txt", "12abc\n34def\n"), packed) == [
        (12, "abc"), (34, "def"),
    ]  # fmt: skip


def test_blanks_behind_a_field_are_its_own(tmp_path: Path) -> None:
    path = written(tmp_path, "a.csv", 'n, note, more\n1, "x, y", z \n2, w , "v" \n')
    layout = Layout("a", Dialect(initial_space=True),
                    (Field("n", "integer"), Field("note"), Field("more")))  # fmt: skip
    assert rows_of(path, layout)[0] == (1, "x, y", "z ")


def test_names_that_meet_once_flattened_are_a_fault(tmp_path: Path) -> None:
    lines = ['{"at": {"lock": "Low"}}', '{"at": {}}', '{"at": null}',
             '{"at.lock": "Up", "at": {"lock": "Low"}}']  # fmt: skip
    path = written(tmp_path, "a.jsonl", "\n".join(lines) + "\n")
    layout = infer_layout([path], flatten=True).layout
    assert "at.lock" in layout.names
    plain = Layout("a", layout.dialect, (Field("at.lock"),), "jsonl")
    assert rows_of(path, plain) == [("Low",), (None,), (None,)]
    (fault,) = checked(path, plain).faults
    assert (fault.line, fault.field) == (4, "at.lock")


def test_kinds_of_one_name_have_a_layout_each(splarn: Splarn, tmp_path: Path) -> None:
    for number, name in enumerate("bcd", 1):
        written(tmp_path, f"tolls-{number}.csv", f"a,{name}\n" + "1,2\n" * (9 - number))
    files = [f"tolls-{number}.csv" for number in (1, 2, 3)]
    ran = splarn("layout", *files, "--out", "l.json", "--json")
    assert ran.code == 0, ran.err
    places = [ran.json["out"], *(one["out"] for one in ran.json["others"])]
    assert places == ["l.json", "l.tolls.json", "l.tolls-3.json"]
    names = [json.loads((tmp_path / place).read_text())["schema"]["fields"][1]["name"]
             for place in places]  # fmt: skip
    assert names == ["b", "c", "d"]
    (tmp_path / "l.json").unlink()
    again = splarn("layout", *files, "--out", "l.json")
    assert (again.code, "may hold your edits" in again.err) == (2, True)
    assert not (tmp_path / "l.json").exists()


def test_an_archive_that_holds_a_name_twice_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w") as archive, pytest.warns(UserWarning, match="Duplicate"):
        archive.writestr("a.csv", "n\n1\n")
        archive.writestr("a.csv", "n\n2\n")
    with pytest.raises(RequestError, match="twice"):
        opened_up([path])

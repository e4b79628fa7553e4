"""The survey: every finding is provoked by a file that has it, and by none that has not."""

from __future__ import annotations

import gzip
import os
import threading
import time
from pathlib import Path

import pyarrow as pa
import pytest
import zstandard
from pyarrow import parquet

from splarn.core.check.checking import check
from splarn.core.inference.infer import infer_layout
from splarn.core.source.files import Only, find_files
from splarn.core.survey import Catalogue, Intended, SourceFile, survey
from splarn.core.survey import catalogue as catalogue_module
from splarn.core.work.pool import Inline
from splarn.demo.scenario import Delivery

ROWS = "".join(f"{n},LK-{n % 60:03d},{n % 7}.50\n" for n in range(2000))
TEXT = "passage,lock,toll\n" + ROWS


def look(folder: Path, **files: bytes | str) -> Catalogue:
    """Surveys files of the given content; `__` in a name stands for a dot."""
    for name, content in files.items():
        data = content.encode() if isinstance(content, str) else content
        path = folder / name.replace("__", ".")
        path.write_bytes(data)
        os.utime(path, (1e9, 1e9))
    return survey(find_files([folder]), intended=Intended(64 << 10, 4))


def kinds(found: Catalogue) -> list[str]:
    return sorted(finding.kind for finding in found.findings)


def only(found: Catalogue, kind: str) -> str:
    (message,) = [finding.message for finding in found.findings if finding.kind == kind]
    return message


def by_name(found: Catalogue, name: str) -> SourceFile:
    return next(file for file in found.files if Path(file.path).name == name)


def test_plain_facts(tmp_path: Path) -> None:
    found = look(
        tmp_path,
        a__csv=TEXT,
        b__csv="\ufeff" + TEXT.replace("\n", "\r\n").replace("LK", "LQ"),
        c__csv=TEXT.replace("LK", "Mö").encode("latin-1"),
    )
    a, b, c = found.files
    assert (a.codec, a.format, a.encoding, a.line_end, a.columns) == (
        "none", "delimited", "utf-8", "\n", 3,
    )  # fmt: skip
    assert (b.encoding, b.line_end) == ("utf-8-sig", "\r\n")
    assert c.encoding == "not utf-8"
    for file in found.files:
        assert file.rows_low <= 2000 <= file.rows_high  # type: ignore[operator]
    assert [file.rows for file in survey(find_files([tmp_path]), exact=True).files] == [2000] * 3
    assert a.row_bytes == pytest.approx(len(TEXT) / 2000, rel=0.1)
    assert a.modified == 1e9
    assert kinds(found) == []


def test_what_the_name_says_and_what_the_content_is(tmp_path: Path) -> None:
    found = look(tmp_path, a__csv__gz=TEXT, b__csv=gzip.compress(TEXT.replace("LK", "LQ").encode()))
    assert kinds(found) == ["codec-mismatch"] * 2
    assert "a.csv.gz is not compressed" in found.findings[0].message
    assert [file.codec for file in found.files] == ["none", "gzip"]


def test_the_same_content_under_another_name_and_codec(tmp_path: Path) -> None:
    long = TEXT + ROWS * 20
    found = look(
        tmp_path,
        a__csv=long,
        b__csv__gz=gzip.compress(long.encode()),
        c__csv__zst=zstandard.compress(long.encode()),
        d__csv=long.replace("1999,", "1998,"),
        e__csv=TEXT,
        f__csv=TEXT,
    )
    messages = [one.message for one in found.findings if one.kind == "same-content"]
    assert len(messages) == 2
    assert messages[0].startswith("a.csv, b.csv.gz and c.csv.zst hold the same content")
    assert messages[1].startswith("e.csv and f.csv")


def test_files_that_are_not_like_the_others(tmp_path: Path) -> None:
    found = look(
        tmp_path,
        a__csv=TEXT,
        b__csv=TEXT.replace("LK", "LQ"),
        other__csv=TEXT.replace("toll", "fee"),
        wide__csv=TEXT.replace(".50", ".50,x").replace("toll", "toll,more"),
        bare__csv=ROWS,
        lines__jsonl='{"passage": 1}\n{"passage": 2}\n',
    )
    assert kinds(found) == ["mixed-columns", "mixed-formats", "mixed-headers", "mixed-headers"]
    assert only(found, "mixed-columns").startswith("wide.csv has 4 columns where a.csv has 3")
    headers = [one.message for one in found.findings if one.kind == "mixed-headers"]
    assert headers[0].startswith("bare.csv has no header, unlike a.csv")
    assert headers[1].startswith("other.csv has another header than a.csv")
    assert by_name(found, "lines.jsonl").format == "json-lines"
    assert by_name(found, "lines.jsonl").rows == 2


def test_damage_and_emptiness(tmp_path: Path) -> None:
    packed = gzip.compress(TEXT.encode())
    found = look(
        tmp_path,
        short__csv__gz=packed[:-20],
        torn__csv__zst=zstandard.compress(TEXT.encode())[:-9],
        rotten__csv__gz=packed[:40] + b"\xee" * 200,
        empty__csv="",
        head__csv="passage,lock,toll\n",
        wide__csv=TEXT.encode("utf-16"),
        bad__parquet=b"PAR1" + b"\0" * 50,
    )
    expected = ["damaged"] * 4 + ["empty", "header-only"]
    assert [kind for kind in kinds(found) if not kind.startswith(("mixed", "few"))] == expected
    assert by_name(found, "short.csv.gz").rows is None
    assert found.rows is None


def test_a_long_stream_that_cannot_be_split(tmp_path: Path) -> None:
    found = look(tmp_path, a__csv__gz=gzip.compress((TEXT + ROWS * 40).encode(), 1))
    message = only(found, "unsplittable")
    assert "one gzip stream" in message
    assert "shape it into 21 parts of 64.0 KiB" in message
    assert not found.files[0].splittable
    assert kinds(found) == ["few-huge", "unsplittable"]


def test_too_many_small_ones_and_too_few_huge_ones(tmp_path: Path) -> None:
    small = tmp_path / "small"
    huge = tmp_path / "huge"
    skew = tmp_path / "skew"
    for folder in (small, huge, skew):
        folder.mkdir()
    found = look(small, **{f"f{n:03d}__csv": f"a,b\n{n},x\n" for n in range(100)})
    assert kinds(found) == ["many-small"]
    assert "shape them into 1 part" in only(found, "many-small")
    found = look(huge, a__csv=TEXT + ROWS * 9, b__csv="passage,lock,toll\n7,LK-001,2.00\n")
    assert "4 streams would be at work only 25% of the time" in only(found, "few-huge")
    files = {f"f{n}__csv": TEXT.replace("LK", f"L{n}") for n in range(9)}
    found = look(skew, large__csv=TEXT + ROWS * 30, **files)
    assert kinds(found) == ["skew"]
    even = tmp_path / "even"
    even.mkdir()
    assert kinds(look(even, **files)) == []


def test_a_file_still_on_its_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(catalogue_module, "PAUSE", 0.5)
    path = tmp_path / "a.csv"
    path.write_text(TEXT)

    def deliver() -> None:
        time.sleep(0.2)
        with path.open("a") as file:
            file.write(ROWS)

    thread = threading.Thread(target=deliver)
    thread.start()
    found = survey([path])
    thread.join()
    assert kinds(found) == ["growing"]
    assert f"grew from {len(TEXT):,} to {len(TEXT + ROWS):,} bytes" in only(found, "growing")


def test_estimates_hold_the_truth_within_their_bounds(delivery: Delivery, tmp_path: Path) -> None:
    path = tmp_path / "all.csv"
    path.write_bytes(b"".join(path.read_bytes() for path in delivery.paths))
    layout = infer_layout([path]).layout
    (guess,) = survey([path], layout).files
    (sure,) = survey([path], layout, exact=True).files
    assert not guess.rows_exact
    assert sure.rows_exact
    assert guess.rows_low is not None
    assert guess.rows_high is not None
    assert sure.rows is not None
    assert guess.rows_low <= sure.rows <= guess.rows_high
    assert guess.rows_high - guess.rows_low < 0.1 * sure.rows
    zipped = tmp_path / "all.csv.gz"
    zipped.write_bytes(gzip.compress(path.read_bytes() * 4, 6))
    (packed,) = survey([zipped], layout).files
    assert not packed.rows_exact
    assert packed.rows_low is not None
    assert packed.rows_high is not None
    assert packed.rows_low <= 4 * sure.rows <= packed.rows_high


def test_parquet_tells_its_rows(tmp_path: Path) -> None:
    table = pa.table({"passage": list(range(500)), "lock": ["LK-001"] * 500})
    parquet.write_table(table, tmp_path / "a.parquet", row_group_size=100)
    found = look(tmp_path)
    (file,) = found.files
    assert (file.format, file.rows, file.rows_exact, file.columns) == ("parquet", 500, True, 2)
    assert file.splittable


def test_filters(tmp_path: Path) -> None:
    for name, size, age in (("a.csv", 10, 50), ("b.csv", 1000, 5000), ("c.txt", 1000, 50)):
        path = tmp_path / name
        path.write_bytes(b"x" * size)
        os.utime(path, (time.time() - age,) * 2)

    def kept(**rules: object) -> list[str]:
        return [path.name for path in find_files([tmp_path]) if Only(**rules).keeps(path)]  # type: ignore[arg-type]

    assert kept() == ["a.csv", "b.csv", "c.txt"]
    assert kept(name="*.csv") == ["a.csv", "b.csv"]
    assert kept(larger=100) == ["b.csv", "c.txt"]
    assert kept(smaller=100) == ["a.csv"]
    assert kept(newer=600) == ["a.csv", "c.txt"]
    assert kept(older=600, name="*.csv") == ["b.csv"]


def test_json_lines_are_counted_by_their_lines(tmp_path: Path) -> None:
    lines = "".join(f'{{"n": {n}, "note": "a \\"quote\\""}}\n' for n in range(3000))
    found = look(tmp_path, a__jsonl=lines, b__json=lines.replace("quote", "other"))
    for file in found.files:
        assert (file.format, file.columns, file.head_line) == ("json-lines", 2, b"")
        assert file.rows_low is not None and file.rows_high is not None
        assert file.rows_low <= 3000 <= file.rows_high
    (exact,) = survey([tmp_path / "a.jsonl"], exact=True).files
    assert (exact.rows, exact.rows_exact) == (3000, True)
    (tmp_path / "layout.json").write_text('{\n "schema": {}\n}\n')
    assert [path.name for path in find_files([tmp_path])] == ["a.jsonl", "b.json"]


def test_files_of_three_formats_are_told_apart(tmp_path: Path) -> None:
    parquet.write_table(pa.table({"n": range(50)}), tmp_path / "c.parquet")
    found = look(tmp_path, a__csv=TEXT, b__jsonl='{"n": 1}\n')
    assert "3 files" not in only(found, "mixed-formats")
    assert "1 delimited, 1 json-lines, 1 parquet" in only(found, "mixed-formats")
    data = (tmp_path / "c.parquet").read_bytes()
    (tmp_path / "d.parquet").write_bytes(data[:-30])
    damaged = survey([tmp_path / "d.parquet"])
    assert kinds(damaged) == ["damaged"]
    assert "fetch it again" in only(damaged, "damaged")
    assert damaged.rows is None


def test_twins_under_two_codecs_among_columnar_files(tmp_path: Path) -> None:
    parquet.write_table(pa.table({"n": range(50)}), tmp_path / "a.parquet")
    (tmp_path / "b.parquet").write_bytes((tmp_path / "a.parquet").read_bytes())
    (tmp_path / "c.csv.gz").write_bytes(gzip.compress(TEXT.encode()))
    (tmp_path / "d.csv").write_text(TEXT)
    messages = [f.message for f in survey(find_files([tmp_path])).findings]
    assert any("a.parquet and b.parquet hold the same content" in text for text in messages)
    assert any("c.csv.gz and d.csv hold the same content" in text for text in messages)


def test_escaped_quotes_do_not_upset_the_count(tmp_path: Path) -> None:
    rows = "".join(f'{n};"said \\"{n}\\"; and\nleft"\n' for n in range(300))
    look(tmp_path, a__csv="n;note\n" + rows, b__csv="n;note\n" + '1;"C:\\"\n2;"D:\\"\n' * 150)
    exact = survey(find_files([tmp_path]), exact=True)
    assert [file.rows for file in exact.files] == [300, 300]
    for path, file in zip(find_files([tmp_path]), exact.files, strict=True):
        assert check([path], infer_layout([path]).layout, Inline()).rows == file.rows

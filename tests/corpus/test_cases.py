"""Every hand-made file is read as a careful person would, by all four commands alike."""

from __future__ import annotations

import re
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from splarn.core.check.checking import check
from splarn.core.errors import RequestError
from splarn.core.inference.infer import infer_layout
from splarn.core.reading import read_parsed
from splarn.core.reading.sources import read_sources
from splarn.core.survey import survey
from splarn.core.work.pool import Inline
from tests.corpus.cases import CASES, Case


@pytest.mark.parametrize("name", CASES)
def test_a_file_is_read_as_a_careful_person_would(tmp_path: Path, name: str) -> None:
    case = CASES[name]
    path = tmp_path / f"{name}.txt"
    path.write_bytes(case.data)
    inferred = infer_layout([path])
    layout = inferred.layout
    told = " / ".join(inferred.notes)
    assert layout.names == case.names, told
    for word in case.said:
        assert word in told
    described = {field.name: field.describe() for field in layout.fields}
    for field, kind in case.types.items():
        assert described[field].startswith(kind), told
    (source,) = read_sources([path], layout, headers_do=True)
    found: list[tuple[str | None, ...]] = []
    faults = 0
    for parsed in read_parsed(source.place, source.codec, layout):
        found += [tuple(map(shown, row.values())) for row in parsed.table.to_pylist()]
        faults += len(parsed.faults)
    assert faults == case.bad, told
    assert tuple(found[: len(case.cells)]) == case.cells, told
    checked = check([path], layout, Inline())
    assert (checked.rows, checked.bad) == (len(found) + case.bad, case.bad)
    if case.rows is not None:
        assert checked.rows == case.rows
    (seen,) = survey([path], exact=True).files
    assert seen.rows == checked.rows
    assert seen.columns == len(layout.fields) or layout.format == "jsonl"


def shown(value: Any) -> str | None:
    """A typed value as short text."""
    if value is None:
        return None
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, Decimal | float):
        text = format(Decimal(repr(value)) if isinstance(value, float) else value, "f")
        return re.sub(r"\.?0+$", "", text) if "." in text else text
    return str(value)


def test_long_text_in_a_wide_encoding_is_sampled_at_its_head(tmp_path: Path) -> None:
    path = tmp_path / "wide.csv"
    text = "no,lock\r\n" + "".join(f"{n},L{n % 7}\r\n" for n in range(1, 90_000))
    path.write_bytes(text.encode("utf-16"))
    inferred = infer_layout([path])
    assert [field.type for field in inferred.layout.fields] == ["integer", "string"]
    assert check([path], inferred.layout, Inline()).rows == 89_999


def test_files_of_other_kinds_are_no_text(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    for data in (b"%PDF-1.7 and so on\n" * 9, bytes(range(256)) * 40, b"SQLite format 3\0" * 9):
        path.write_bytes(data)
        with pytest.raises(RequestError, match="is no text"):
            infer_layout([path])
    # Quotes that close anywhere: other readers divide it otherwise, and nothing may fail.
    path.write_bytes(b'a,b\n1,"x"y\r"z"\n2,"p\rq"\n3,ok\n' * 3)
    layout = infer_layout([path]).layout
    checked = check([path], layout, Inline())
    assert checked.rows >= 3


def test_no_case_is_left_without_its_expectation() -> None:
    assert all(isinstance(case, Case) and case.names for case in CASES.values())

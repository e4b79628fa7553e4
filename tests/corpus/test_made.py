"""Made-up tables come back from any dialect and through any oddity as they went in."""

from __future__ import annotations

import tempfile
from pathlib import Path

from hypothesis import example, given, settings
from hypothesis import strategies as st

from splarn.core.check.checking import check
from splarn.core.inference.infer import infer_layout
from splarn.core.reading import read_parsed
from splarn.core.reading.sources import read_sources
from splarn.core.survey import survey
from splarn.core.work.pool import Inline
from tests.corpus.make import make
from tests.corpus.test_cases import shown


@settings(max_examples=36)
@given(seed=st.integers(1, 1 << 30))
# A footer is held back from a first block that then is a comment alone.
@example(seed=34308567)
def test_a_table_comes_back_from_any_dialect(seed: int) -> None:
    wrong = differs(seed)
    assert not wrong, f"{seed}: {wrong}"


def differs(seed: int) -> str:
    """What is not as it was made, or empty."""
    made = make(seed)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "made.csv"
        path.write_bytes(made.data)
        inferred = infer_layout([path])
        layout = inferred.layout
        (source,) = read_sources([path], layout, headers_do=True)
        found = [
            tuple(shown(value) for value in row.values())
            for parsed in read_parsed(source.place, source.codec, layout)
            for row in parsed.table.to_pylist()
        ]
        if layout.names != made.names:
            return f"{made.what}: names {layout.names}, {inferred.notes}"
        wanted = [tuple(map(_plain, row)) for row in made.rows]
        if [tuple(map(_plain, row)) for row in found] != wanted:
            pairs = [(a, b) for a, b in zip(found, wanted, strict=False) if a != b]
            return f"{made.what}: {len(found)} of {len(wanted)} rows, {pairs[:2]} {inferred.notes}"
        checked = check([path], layout, Inline())
        (seen,) = survey([path], exact=True).files
        if (checked.rows, checked.bad, seen.rows, seen.columns) != (
            len(wanted), 0, len(wanted), len(layout.fields),
        ):  # fmt: skip
            return f"{made.what}: {checked.rows} checked, {checked.bad} bad, {seen.rows} surveyed"
    return ""


def _plain(value: str | None) -> str | None:
    """A value without zeros at its end, which a number does not keep."""
    if value is None or "." not in value:
        return value
    return value.rstrip("0").rstrip(".")

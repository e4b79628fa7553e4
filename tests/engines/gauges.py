"""Loads of gauge readings."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load import (
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    load,
)
from splarn.core.work.pool import Inline
from splarn.engines import opener
from tests.conftest import ask

GAUGES = Layout(
    "gauges",
    Dialect(),
    (
        Field("reading_no", "integer", required=True),
        Field("gauge"),
        Field("level", "number", precision=9, scale=2),
        Field("day", "date"),
    ),
)


def readings(path: Path, first: int, last: int, bad: tuple[int, ...] = ()) -> Path:
    """A file of readings; those in `bad` have no number for a level."""
    path.parent.mkdir(parents=True, exist_ok=True)
    levels = {n: "deep" if n in bad else f"{n % 700}.{n % 90 + 10}" for n in range(first, last + 1)}
    lines = [f"{n},RM-{n % 9},{level},2031-01-0{n % 9 + 1}\n" for n, level in levels.items()]
    path.write_text("reading_no,gauge,level,day\n" + "".join(lines))
    return path


def request(target: str, table: str, *paths: Path, **more: Any) -> LoadRequest:
    inputs = more.pop("inputs", None)
    # Parts have no header of their own.
    layout = GAUGES if inputs is None else replace(GAUGES, dialect=Dialect(header=False))
    inputs = inputs or inputs_from_files(paths, GAUGES)
    return LoadRequest(opener(target), table, layout, inputs, **{"batch_rows": 100, **more})


def run(target: str, table: str, *paths: Path, **more: Any) -> LoadRecord:
    record = load(request(target, table, *paths, **more), Inline())
    assert record.verified is not False, record.differences
    return record


def count(target: str, table: str) -> int:
    return int(ask(target, f"SELECT count(*) FROM {table}")[0][0])

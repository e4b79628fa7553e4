"""Tables at three widths, held against golden files: nothing that names a row is ever lost.

`SPLARN_GOLDEN=write` writes the files anew; what changed is then read in the difference.
"""

from __future__ import annotations

import contextlib
import io
import os
import re
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console

from splarn.cli.learned import show_forecasts
from splarn.cli.output import Output
from splarn.cli.running import show_beside
from splarn.cli.tables import Column, print_table
from splarn.cli.trials import show_trials
from splarn.core.source.codecs import Packing
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.forecast import Forecast, Span
from splarn.core.tuning.trial import Trial
from tests.conftest import Splarn

GOLDEN = Path(__file__).parent / "golden"
WIDTHS = (60, 80, 120)
ONE = Configuration(
    part_size=16 << 20, packing=Packing("zstd", 1), workers=2, load_streams=4, batch_rows=50_000
)
SPACE = [
    ONE,
    replace(ONE, load_streams=2, tier="u12"),
    replace(ONE, part_size=64 << 20, packing=Packing("gzip", 6), tier="u5"),
    replace(ONE, batch_rows=0, durability="none", route="landing"),
]
PHASES = {"shape": 61.25, "ship": 8.5, "size": 4.0, "queue": 0.4, "load": 241.0, "finish": 3.25}


def forecast(configuration: Configuration, scale: float) -> Forecast:
    phases = {name: seconds * scale for name, seconds in PHASES.items()}
    total = sum(phases.values())
    span, cost = Span(total * 0.8, total, total * 1.3), Span(0.8 * scale, scale, 1.4 * scale)
    return Forecast(
        configuration, span, cost, phases, {}, () if scale > 1 else ("tier",), scale > 1,
        np.array([total]), np.array([scale]), span,
    )  # fmt: skip


def forecasts(out: Output) -> None:
    every = [forecast(one, 0.3 + 0.9 * at) for at, one in enumerate(SPACE)]
    show_forecasts(out, every, "crowns", every[2])


def beside(out: Output) -> None:
    made = forecast(ONE, 1.1)
    plan: Any = SimpleNamespace(forecast=made.as_json(), prices=SimpleNamespace(currency="crowns"))
    actual = {name: seconds * 1.07 for name, seconds in made.phases.items()}
    record: Any = SimpleNamespace(
        phases=actual, seconds=sum(actual.values()), cost=SimpleNamespace(total=1.2345),
        error_pct=7.0, resumed=False,
    )  # fmt: skip
    show_beside(out, plan, record)


def trials(out: Output) -> None:
    ran = [
        Trial(one, repeat, "trial", sum(PHASES.values()) * (1 + at) * (1 + repeat / 50),
              {name: seconds * (1 + at) for name, seconds in PHASES.items()}, 1, 2, 3, 4, "", ())
        for at, one in enumerate(SPACE)
        for repeat in (1, 2)
    ]  # fmt: skip
    show_trials(out, ran, "grid finished")


PRESENTED: dict[str, Callable[[Output], None]] = {
    "forecast": forecasts, "run": beside, "sweep": trials,
}  # fmt: skip
TYPED = {
    "survey": ("survey", "deliveries", "--exact"),
    "layout": ("layout", "deliveries/2031/spring/passages_of_the_northern_flight.csv"),
    "check": ("check", "deliveries/2031/spring", "--layout", "layout.json"),
}


def held(name: str, width: int, shown: str) -> None:
    path = GOLDEN / f"{name}-{width}.txt"
    lines = [line.rstrip() for line in shown.splitlines()]
    assert max(map(cell_len, lines)) <= width, f"a line is wider than {width}"
    text = "\n".join(lines) + "\n"
    if os.environ.get("SPLARN_GOLDEN") == "write":
        path.parent.mkdir(exist_ok=True)
        path.write_text(text)
    assert text == path.read_text(), f"{path.name} differs; SPLARN_GOLDEN=write writes it anew"


@pytest.mark.parametrize("width", WIDTHS)
@pytest.mark.parametrize("name", sorted(PRESENTED))
def test_tables_of_figures_are_as_agreed(
    name: str, width: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    said = io.StringIO()
    with contextlib.redirect_stdout(said):
        out = Output(False)
        out.out = Console(file=said, width=width, highlight=False)
        PRESENTED[name](out)
    held(name, width, said.getvalue())


@pytest.mark.parametrize("width", WIDTHS)
@pytest.mark.parametrize("name", sorted(TYPED))
def test_tables_of_files_are_as_agreed(
    splarn: Splarn, tmp_path: Path, name: str, width: int
) -> None:
    spring = tmp_path / "deliveries/2031/spring"
    spring.mkdir(parents=True)
    head = "passage_no,lock_code,recorded_draught_at_the_upper_gate_cm,entered_at\n"
    rows = "".join(
        f"{n},LK-{n % 40:03},{'deep' if n % 400 == 7 else 90 + n % 80},2031-04-{1 + n % 28:02}\n"
        for n in range(1500)
    )
    long = spring / "passages_of_the_northern_flight.csv"
    long.write_text(head + rows)
    (spring / "gauges.jsonl").write_text('{"gauge": "upper", "cm": 12}\n' * 40)
    (spring / "nothing.csv").touch()
    (tmp_path / "deliveries/locks.csv").write_text("lock,name\n1,Low\n2,High\n")
    for path in tmp_path.rglob("*.*"):
        os.utime(path, (1e9, 1e9))
    if name == "check":
        (spring / "gauges.jsonl").unlink()
        assert splarn("layout", long, "--out", "layout.json").code == 0
    ran = splarn(*TYPED[name], env={"COLUMNS": str(width)})
    assert ran.code in (0, 1), ran.err
    held(name, width, re.sub(r"[0-9.]+ s\b", "T s", ran.out))


CELL = st.text(st.sampled_from("abcdefghij-_/.0123456789 ü漢"), max_size=40)


@given(st.integers(30, 140), st.integers(1, 7), st.data())
def test_no_row_loses_its_name_and_no_figure_its_digits(
    width: int, columns: int, data: st.DataObject
) -> None:
    kept = Column(">figure")
    others = [
        Column(f"column {at}", data.draw(st.integers(0, 4)), wraps=data.draw(st.booleans()))
        for at in range(columns)
    ]
    rows = data.draw(st.lists(st.lists(CELL, min_size=columns, max_size=columns), min_size=1,
                              max_size=4))  # fmt: skip
    figures = [f"{number:,}" for number in range(1_000_000, 1_000_000 + len(rows))]
    said = io.StringIO()
    console = Console(file=said, width=width, highlight=False)
    cells = [
        [f"row{at}", figure, *row]
        for at, (figure, row) in enumerate(zip(figures, rows, strict=True))
    ]
    print_table(console, [Column("name"), kept, *others], cells)
    for at, figure in enumerate(figures):
        assert f"row{at}" in said.getvalue()
        assert figure in said.getvalue()

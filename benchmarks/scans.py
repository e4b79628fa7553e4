"""Questions of lakes: bytes that were foretold from a look at the text, against those read later.

Layouts of files and questions are drawn at random, deliveries come in several orders.
"""

from __future__ import annotations

import json
import random
import shutil
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.counted import asked
from benchmarks.data import apart
from benchmarks.measure import Row, run, splarn

TABLE = "passages"
ROWS, FILES = 2_000_000, 12
LOOK = "32MiB"
LAYOUTS, QUESTIONS = 6, 8
BEGIN = datetime(2031, 1, 1)
ORDERS = ("by time, a file a month", "by time, in one file", "in no order")


def make(home: Path, rows: int, order: str) -> None:
    """Passages of a year as text."""
    import pyarrow as pa
    from pyarrow import csv

    made = np.random.default_rng(7)
    seconds = made.integers(0, 365 * 86_400, rows)
    if order != ORDERS[2]:
        seconds.sort()
    locks = np.minimum(made.zipf(1.4, rows), 40)
    notes = np.array(["", "", "", "waited, ice", "gate slow", "low water at the sill"])
    table = pa.table({
        "passage_no": np.arange(rows),
        "lock_code": pa.array([f"LK{one:02}" for one in locks]),
        "boat": made.integers(1000, 9000, rows),
        "direction": np.where(made.random(rows) < 0.5, "up", "down"),
        "entered": pa.array(np.datetime64(BEGIN, "s") + seconds),
        "draught_cm": pa.array(made.integers(30, 180, rows), mask=made.random(rows) < 0.1),
        "toll": np.round(made.gamma(3, 5, rows), 2),
        "note": notes[made.integers(0, len(notes), rows)],
    })  # fmt: skip
    home.mkdir(parents=True, exist_ok=True)
    months = (seconds // (31 * 86_400)).astype(int)
    for number in range(1 if order == ORDERS[1] else FILES):
        if order == ORDERS[0]:
            mine = table.filter(pa.array(months == number))
        else:
            each = len(table) // (1 if order == ORDERS[1] else FILES)
            mine = table.slice(number * each, each)
        csv.write_csv(mine, home / f"passages-{number + 1:02}.csv")


@dataclass(frozen=True)
class Asked:
    """One question, in our words and in those of two other readers."""

    words: str
    columns: tuple[str, ...] | None
    row_filter: str
    expression: Any


def draw_question(draw: random.Random) -> Asked:
    """A question of some columns with one or two conditions."""
    import pyarrow.dataset as ds

    every = ["passage_no", "lock_code", "boat", "direction", "draught_cm", "toll", "note"]
    columns = tuple(sorted(draw.sample(every, draw.randint(1, 4)), key=every.index))
    columns = None if draw.random() < 0.15 else columns
    words, filters, expression = [], [], None
    for kind in draw.sample(
        ["entered", "lock_code", "toll", "boat", "direction"], draw.randint(1, 2)
    ):
        field: Any = ds.field(kind)
        if kind == "entered":
            first = BEGIN + timedelta(days=draw.randint(0, 330))
            last = first + timedelta(days=draw.choice([1, 7, 31]))
            words.append(f"where(entered {first:%Y-%m-%d}..{last - timedelta(days=1):%Y-%m-%d})")
            filters.append(f"entered >= '{first.isoformat()}' and entered < '{last.isoformat()}'")
            mine = (field >= first) & (field < last)
        elif kind in ("lock_code", "direction"):
            value = draw.choice(["up", "down"] if kind == "direction" else
                                [f"LK{min(int(draw.paretovariate(0.5)), 40):02}"])  # fmt: skip
            words.append(f"where({kind} {value})")
            filters.append(f"{kind} = '{value}'")
            mine = field == value
        else:
            low = draw.randint(5, 30) if kind == "toll" else draw.randint(1000, 8000)
            high = low + (draw.choice([0, 1, 10]) if kind == "toll" else draw.choice([0, 50, 900]))
            words.append(f"where({kind} {low}..{high})")
            span = f"{kind} >= {low} and {kind} <= {high}"
            filters.append(span if low < high else f"{kind} = {low}")
            ends = [Decimal(f"{end}.00") if kind == "toll" else end for end in (low, high)]
            mine = (field >= ends[0]) & (field <= ends[1])
        expression = mine if expression is None else expression & mine
    shown = "" if columns is None else f"columns({' '.join(columns)}) "
    return Asked(shown + " ".join(words), columns, " and ".join(filters), expression)


def draw_layout(draw: random.Random) -> tuple[str, str, bool]:
    """A layout of files, its order, and whether files are merged afterwards."""
    by = draw.choice(["", "", "month(entered)", "month(entered)", "value(direction)",
                      "bucket(boat 8)", "month(entered) value(direction)"])  # fmt: skip
    order = draw.choice(["", "lock_code", "toll", "entered", "lock_code entered"])
    codec, rows, size = map(draw.choice, (
        ["", "none", "snappy", "zstd(6)"], ["", "rows(20000)", "rows(60000)"], ["", "4MiB"],
    ))  # fmt: skip
    words = [by, f"sort({order})" if order else "", codec, rows, size]
    layout = " ".join(word for word in words if word) or "plain"
    return layout, order, bool(order) and draw.random() < 0.5


def _read(lake: Path, questions: Sequence[Asked]) -> list[int]:
    return [
        asked(lake, TABLE, one.row_filter, one.expression,
              None if one.columns is None else list(one.columns))[0]
        for one in questions
    ]  # fmt: skip


def _pairs(home: Path, draw: random.Random) -> list[tuple[str, list[float], list[int]]]:
    """For some layouts the bytes that some questions were foretold to read, and did read."""
    questions = [draw_question(draw) for _ in range(QUESTIONS)]
    layouts = [draw_layout(draw) for _ in range(LAYOUTS)]
    words: list[object] = ["forecast", "--json"]
    for one in questions:
        words += ["--question", one.words]
    for layout, _, merged in layouts:
        words += ["--kept-as", layout + " compacted" * merged]
    said = json.loads(run(splarn(*words), home).said.strip().splitlines()[-1])
    found = []
    for told, (layout, sort, merged) in zip(said["scans"]["kept"][1:], layouts, strict=True):
        lake = home / "lake"
        shutil.rmtree(lake, ignore_errors=True)
        target = ("--to", f"lake:///{lake}", "--table", TABLE)
        run(splarn("load", *target, "--file-layout", layout, "--streams", 1), home)
        if merged:
            run(splarn("compact", *target, "--sort", sort.replace(" ", ",")), home)
        foreseen = [one["bytes"] for one in told["questions"]]
        found.append((layout + " compacted" * merged, foreseen, _read(lake, questions)))
    return found


def foretold(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints how far bytes that were foretold are from those read, by the order of the delivery."""
    print("| delivery | of | pairs | median error | nine in ten within | signed | worst |")
    print("|---|---|---|---|---|---|---|")
    for number, order in enumerate(ORDERS):
        draw = random.Random(100 * number + 1)
        home = folder / f"asked-{number}"
        if not home.exists():
            apart(make, home / "delivery", int(ROWS * scale), order)
            (home / "splarn.toml").write_text(
                f'[source]\npaths = ["delivery/*.csv"]\n[scans]\nlook = "{LOOK}"\n'
            )
        single, together = list[float](), list[float]()
        for _ in range(repeats):
            for layout, foreseen, read in _pairs(home, draw):
                single += [one / two for one, two in zip(foreseen, read, strict=True) if two]
                together.append(sum(foreseen) / sum(read))
                print(f"{layout}: {together[-1]:.3f}", file=sys.stderr, flush=True)
        for what, ratios in (("each question", single), ("all of a layout", together)):
            off = np.abs(np.array(ratios) - 1)
            print(
                f"| {order} | {what} | {len(ratios)} | {np.median(off):.1%} | "
                f"{np.quantile(off, 0.9):.1%} | {np.mean(ratios) - 1:+.1%} | {off.max():.0%} |",
                flush=True,
            )
    return []


SCANS = {"scans": foretold}

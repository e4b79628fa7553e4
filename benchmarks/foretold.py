"""A benchmark of forecasts on a real server: a sweep, then loads of ten times its sample."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.data import one_file
from benchmarks.load import POSTGRESQL
from benchmarks.measure import Row, run, splarn

JOB = """\
[source]
paths = ["{path}"]
layout = "{layout}"
[target]
url = "{target}"
table = "foretold"
bad_rows = "set-aside"
[space]
part_size = ["4MiB", "8MiB", "16MiB", "32MiB"]
codec = ["none", "zstd:1", "gzip:1"]
workers = [1, 2]
load_streams = [1, 2, 4]
batch_rows = ["10k", "0"]
[sweep]
sample = "32MiB"
strategy = "{strategy}"
seed = 1
"""
# So many configurations are loaded in truth, from the fastest to the slowest forecast.
LOADED = 6
LEVERS = {"part_size": "--part-size", "workers": "--workers", "load_streams": "--load-streams",
          "batch_rows": "--batch-rows"}  # fmt: skip


def foretold(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints what was forecast on PostgreSQL for ten times the sample, and what it then took.

    The last column is the forecast of the same load once that one was run, against a second run.
    """
    path, layout = one_file(folder, 320e6 * scale)
    job = folder / "foretold.toml"
    job.write_text(JOB.format(path=path, layout=layout, target=POSTGRESQL, strategy="adaptive"))
    _said(folder, "sweep", "--job", job)
    forecasts = _said(folder, "forecast", "--job", job)["forecasts"]
    places = np.linspace(0, len(forecasts) - 1, LOADED).round().astype(int)
    plans = []
    for number, place in enumerate(places.tolist()):
        one = forecasts[place]["configuration"]
        plan = folder / f"foretold-{number}.json"
        _said(folder, "plan", "--job", job, *_levers(one), "--table", f"foretold_{number}",
              "--out", plan)  # fmt: skip
        plans.append((one, plan))
    print("| configuration | forecast | 90 % interval | actual | off by | after that run, off by |")
    print("|---|---|---|---|---|---|")
    errors, again, inside = [], [], []
    for number, (one, plan) in enumerate(plans):
        first = _said(folder, "run", "--job", job, plan, "--yes")
        after = folder / f"after-{number}.json"
        _said(folder, "plan", "--job", job, *_levers(one), "--table", f"foretold_{number}b",
              "--out", after)  # fmt: skip
        second = _said(folder, "run", "--job", job, after, "--again", "--yes")
        seconds = first["forecast"]["seconds"]
        actual = first["actual"]["seconds"]
        errors.append(seconds["median"] / actual - 1)
        again.append(second["forecast"]["seconds"]["median"] / second["actual"]["seconds"] - 1)
        inside.append(seconds["low"] <= actual <= seconds["high"])
        levers = ", ".join(f"{key} {value}" for key, value in one.items() if key in LEVERS)
        print(
            f"| {one['codec']}, {levers} | {seconds['median']:.1f} s | {seconds['low']:.1f} – "
            f"{seconds['high']:.1f} s | {actual:.1f} s | {errors[-1]:+.1%} | {again[-1]:+.1%} |",
            flush=True,
        )
    print(
        f"| median, without sign | | {np.mean(inside):.0%} inside | | "
        f"{np.median(np.abs(errors)):.1%} | {np.median(np.abs(again)):.1%} |"
    )
    tables = ", ".join(f"foretold_{n}{end}" for n in range(LOADED) for end in ("", "b"))
    subprocess.run(["psql", "-q", POSTGRESQL, "-c", f"DROP TABLE IF EXISTS {tables}"], check=False)
    return []


def _levers(one: dict[str, Any]) -> list[str]:
    """A configuration as options."""
    codec = one["codec"] + (f":{one['level']}" if one["level"] else "")
    words = ["--codec", codec]
    for key, option in LEVERS.items():
        words += [option, str(one[key])]
    return words


def _said(folder: Path, *words: object) -> dict[str, Any]:
    timed = run(splarn(*words, "--json"), folder)
    print(f"{words[0]}: {timed.seconds:.1f} s", file=sys.stderr)
    found: dict[str, Any] = json.loads(timed.said[timed.said.index("{") :])
    return found


FORETOLD: dict[str, Callable[[Path, int, float], list[Row]]] = {"foretold": foretold}

"""Benchmarks of sweeps on a real server: whether they agree, and what they take."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from benchmarks.data import one_file
from benchmarks.load import POSTGRESQL
from benchmarks.measure import Row, run, splarn
from splarn.core.tuning.statistics import summarise
from splarn.core.tuning.trial import Trial

JOB = """\
[source]
paths = ["{path}"]
layout = "{layout}"
[target]
url = "{target}"
table = "passages"
bad_rows = "set-aside"
[space]
part_size = ["1MiB..16MiB", "3MiB", "6MiB", "12MiB"]
codec = ["none", "zstd:1"]
workers = [2]
load_streams = [1, 2, 3, 4]
batch_rows = ["5k", "50k"]
[sweep]
sample = "32MiB"
strategy = "{strategy}"
repeats = 1
seed = {seed}
"""


def _sweep(folder: Path, scale: float, strategy: str, seed: int) -> tuple[list[Trial], Any, float]:
    """The trials of a sweep, its document, and the seconds of its command in all."""
    path, layout = one_file(folder, 500e6 * scale)
    job = folder / f"{strategy}-{seed}.toml"
    job.write_text(
        JOB.format(path=path, layout=layout, target=POSTGRESQL, strategy=strategy, seed=seed)
    )
    timed = run(splarn("sweep", "--job", job, "--json"), folder)
    document = json.loads(timed.said[timed.said.index("{") :])
    return [Trial.from_json(one) for one in document["trials"]], document, timed.seconds


def sweeps(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints a grid and two adaptive sweeps of one space on PostgreSQL, held against one another.

    A configuration is among the best where its interval in the grid reaches that of the fastest.
    """
    trials, document, took = _sweep(folder, scale, "grid", 1)
    summaries = summarise(trials)
    best = {one.configuration for one in summaries if one.low <= summaries[0].high}
    grid_seconds = sum(trial.seconds for trial in trials)
    print("| sweep | trials | of the grid's time | all else, of its own time | its best |")
    print("|---|---|---|---|---|")
    print(
        f"| grid | {len(trials)} | 100% | {1 - grid_seconds / document['elapsed']:.0%} | "
        f"{summaries[0].configuration}; {len(best)} of {len(summaries)} cannot be told from it |"
    )
    for seed in (2, 3):
        tried, document, took = _sweep(folder, scale, "adaptive", seed)
        spent = sum(trial.seconds for trial in tried)
        from splarn.core.tuning.configuration import Configuration

        chosen = Configuration.from_json(document["best"]["configuration"])
        word = "among them" if chosen in best else "NOT among them"
        print(
            f"| adaptive, seed {seed} | {len(tried)} | {spent / grid_seconds:.0%} | "
            f"{1 - spent / document['elapsed']:.0%} | {chosen}; {word} |",
            flush=True,
        )
        print(f"{took:.1f} s in all, {document['stopped_because']}", file=sys.stderr)
    return []


SWEEPS: dict[str, Callable[[Path, int, float], list[Row]]] = {"sweeps": sweeps}

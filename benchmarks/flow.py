"""Benchmarks of runs: how near a flow comes to its slowest stage, and what it holds meanwhile."""

from __future__ import annotations

import json
import os
import secrets
import shutil
import socket
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from benchmarks.data import one_file
from benchmarks.load import POSTGRESQL
from benchmarks.measure import Row, run, splarn
from splarn.core.check.limit import BadRows
from splarn.core.flow.watching import Watching
from splarn.core.layout.descriptor import read_layout
from splarn.core.load import LoadRequest, inputs_from_manifest, load
from splarn.core.prices import Prices, Tier
from splarn.core.run.flow import run_plan
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.overlap import STAGES
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan, read_plan, write_plan
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools
from splarn.engines import opener

# What is wanted of a flow: a share of the sum of its stages, and of its slowest one.
OF_SUM, OF_SLOWEST = 0.6, 1.15
STORE = os.environ.get("SPLARN_TEST_S3", "http://127.0.0.1:4568")
KEYS = {
    "AWS_ACCESS_KEY_ID": "S3RVER", "AWS_SECRET_ACCESS_KEY": "S3RVER", "AWS_ENDPOINT_URL": STORE,
}  # fmt: skip
# An engine and a depot that take about as long as packing here does, for 100 MB.
PHYSICS = """
[millrace]
slots_per_unit = 2
start_up = 0.0
resize = 0.0
admission = 0.1
overhead = 0.05
commit = 0.01
noise = 0.03
parse.csv = {parse}
parse.jsonl = {parse}
parse.parquet = {parse}

[depot]
latency = 0.005
stream_megabytes = {line}
total_megabytes = {line}
"""


@dataclass(frozen=True)
class Held:
    """The most that lay on the disk, in files and bytes, and in memory, in bytes."""

    files: int
    bytes: int
    memory: int


def _plan(folder: Path, path: Path, layout: Path, one: Configuration, target: str, table: str,
          depot: str = "") -> Path:  # fmt: skip
    size = path.stat().st_size
    told = {"low": 1.0, "median": 1.0, "high": 1.0}
    file = folder / f"{table}.json"
    plan = Plan(
        f"bench-{table}", one, {"seconds": told, "cost": told, "phases": {"load": 1.0}}, Limits(),
        True, (), (str(path),), read_layout(layout), target, table, "create", BadRows(),
        Volume(size, size / 100, files=(float(size),)), size,
        Prices(tiers={"u1": Tier(per_hour=1.0)}), "sweep", depot,
    )  # fmt: skip
    write_plan(plan, file)
    return file


@contextmanager
def _standins(folder: Path, parse: float, line: float) -> Iterator[tuple[str, str]]:
    """The addresses of a simulated depot and engine of these speeds, MB/s."""
    physics = folder / "physics.toml"
    physics.write_text(PHYSICS.format(parse=parse, line=line))
    process = subprocess.Popen(
        [sys.executable, "-m", "splarn", "standin", "--folder", str(folder / "standin"),
         "--depot-port", "0", "--engine-port", "0", "--physics", str(physics), "--json"],
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    try:
        told = json.loads(process.stdout.readline())
        yield told["depot"], told["engine"]
    finally:
        process.terminate()
        process.wait()


def _told(
    folder: Path, plan: Path, more: dict[str, str] | None = None
) -> tuple[dict[str, Any], Held]:
    """A run's document, and the most that it held."""
    parts = folder / f"parts-{plan.stem}"
    most = [0, 0]
    over = threading.Event()

    def look() -> None:
        while not over.wait(0.05):
            sizes = []
            for one in parts.glob("*.csv*") if parts.exists() else ():
                try:
                    sizes.append(one.stat().st_size)
                except FileNotFoundError:
                    continue
            most[0], most[1] = max(most[0], len(sizes)), max(most[1], sum(sizes))

    watcher = threading.Thread(target=look)
    watcher.start()
    try:
        os.environ.update(more or {})
        timed = run(splarn("run", plan, "--parts", parts, "--json", "--yes"), folder, watch=True)
    finally:
        over.set()
        watcher.join()
    document: dict[str, Any] = json.loads(timed.said[timed.said.index("{") :])
    return document, Held(most[0], most[1], timed.together)


def _row(what: str, documents: list[dict[str, Any]], held: list[Held]) -> None:
    shares, slowests = [], []
    stages: dict[str, list[float]] = {}
    for one in documents:
        phases, total = one["actual"]["phases"], one["actual"]["seconds"]
        here = {name: phases[name] for name in STAGES if name in phases}
        for name, seconds in here.items():
            stages.setdefault(name, []).append(seconds)
        rest = sum(seconds for name, seconds in phases.items() if name not in STAGES)
        shares.append((total - rest) / sum(here.values()))
        slowests.append((total - rest) / max(here.values()))
    told = ", ".join(f"{name} {statistics.median(took):.1f} s" for name, took in stages.items())
    total = statistics.median(one["actual"]["seconds"] for one in documents)
    print(
        f"| {what} | {told} | {total:.1f} s | {statistics.median(shares):.2f} | "
        f"{statistics.median(slowests):.2f} | {max(one.files for one in held)} | "
        f"{max(one.bytes for one in held) / 1e6:.1f} MB | "
        f"{max(one.memory for one in held) / 2**20:.0f} MiB |",
        flush=True,
    )


def _answers(url: str) -> bool:
    pieces = urlsplit(url)
    try:
        socket.create_connection((pieces.hostname or "", pieces.port or 80), 0.5).close()
    except OSError:
        return False
    return True


def _overhead(folder: Path, path: Path, layout: Path, times: int) -> None:
    """Core-seconds of a run over those of shaping and loading one after the other, in one process.

    Both read the same file into tables of a database of their own, in turns.
    """
    one = Configuration(
        part_size=1 << 20, packing=Packing(), workers=1, load_streams=1, batch_rows=0
    )
    read, ratios = read_layout(layout), []
    output = PartsFormat("csv", Packing(), one.part_size)

    def begun(number: int, name: str) -> tuple[str, Path]:
        place = folder / f"overhead-{name}-{number}"
        return f"sqlite:///{place}.db", place

    with Pools() as pools:
        for number in range(times):
            url, place = begun(number, "turns")
            before = time.process_time()
            shaped = shape([path], read, place, output, Inline())
            inputs = inputs_from_manifest(shaped.manifest)
            wanted = LoadRequest(
                opener(url), "t", output.layout(read), inputs, batch_rows=0, bad_rows=BadRows()
            )
            load(wanted, Inline())
            turns = time.process_time() - before
            url, place = begun(number, "flow")
            plan = read_plan(_plan(folder, path, layout, one, url, f"overhead_{number}"))
            before = time.process_time()
            run_plan(plan, opener(url), folder, place, pools, Watching(plan.volume.bytes))
            ratios.append((time.process_time() - before) / turns)
            for name in ("turns", "flow"):
                shutil.rmtree(folder / f"overhead-{name}-{number}", ignore_errors=True)
                (folder / f"overhead-{name}-{number}.db").unlink()
    print(
        f"Core-seconds of a run over those of shaping and loading in turn (SQLite, 1 MiB parts, "
        f"{times} pairs): {statistics.median(ratios):.3f} ({min(ratios):.3f} – {max(ratios):.3f})"
    )


def flow(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints a line a job: its stages, the whole, its share of their sum and of the slowest."""
    size = 240e6 * scale
    path, layout = one_file(folder, size)
    times = max(min(repeats, 3), 1)
    mark = secrets.token_hex(3)
    print(
        "| job | stages, each at work | all at the same time | of their sum | of the slowest | "
        "most parts on the disk | most bytes | memory |"
    )
    print("|---|---|---|---|---|---|---|---|")
    packed = Configuration(
        part_size=4 << 20, packing=Packing.parse("zstd:6"), workers=1, transfer_streams=2,
        load_streams=1, batch_rows=20_000,
    )  # fmt: skip
    with _standins(folder, parse=60.0, line=13.0) as (depot, engine):
        plans = [
            _plan(folder, path, layout, packed, engine, f"sim_{mark}_{n}", f"{depot}/bench")
            for n in range(times)
        ]
        told = [_told(folder, plan) for plan in plans]
        _row("simulated depot and engine", [one for one, _ in told], [one for _, one in told])
    told = [
        _told(folder, _plan(folder, path, layout, packed, POSTGRESQL, f"flow_pg_{mark}_{n}"))
        for n in range(times)
    ]
    _row("PostgreSQL, no depot", [one for one, _ in told], [one for _, one in told])
    if _answers(STORE):
        brisk = replace(packed, packing=Packing.parse("zstd:3"), transfer_streams=2)
        told = [
            _told(folder, _plan(folder, path, layout, brisk, POSTGRESQL, f"flow_s3_{mark}_{n}",
                                f"s3://larkmere/{mark}-{n}"), KEYS)
            for n in range(times)
        ]  # fmt: skip
        _row("S3 store and PostgreSQL", [one for one, _ in told], [one for _, one in told])
    else:
        print(f"No S3 store answers at {STORE} (SPLARN_TEST_S3), so that job is left out.")
    small = Configuration(
        part_size=max(int(size / 10_000), 1024), packing=Packing(), workers=2, load_streams=2,
        batch_rows=0,
    )  # fmt: skip
    told = [
        _told(
            folder,
            _plan(folder, path, layout, small, f"sqlite:///{folder}/many.db", f"many_{mark}"),
        )
    ]
    _row("SQLite, 10,000 parts", [one for one, _ in told], [one for _, one in told])
    _overhead(folder, path, layout, 2 * times + 1)
    tables = ", ".join(f"flow_{kind}_{mark}_{n}" for n in range(times) for kind in ("pg", "s3"))
    subprocess.run(["psql", "-q", POSTGRESQL, "-c", f"DROP TABLE IF EXISTS {tables}"], check=False)
    return []


FLOW: dict[str, Callable[[Path, int, float], list[Row]]] = {"flow": flow}

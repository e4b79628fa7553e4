"""Rounds over runs whose stages are all at work at the same time, broken off in each of them."""

from __future__ import annotations

import os
import shutil
from collections import Counter
from pathlib import Path

from splarn.core.check.limit import BadRows
from splarn.core.layout.descriptor import read_layout
from splarn.core.prices import Prices
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan, write_plan
from tests.faults.common import hold
from tests.faults.depots import KEYS, Millrace, StandIns, stores
from tests.faults.program import begin, splarn, until_done
from tests.faults.world import ENGINES, SERVERS, Source, Target, World, expected, rejects_kept

SOON = {"low": 1.0, "median": 2.0, "high": 3.0}
FORECAST = {"seconds": SOON, "cost": SOON, "phases": {"shape": 1.0, "load": 1.0}}


def planned(
    world: World, target: Target, depot: str, mode: str, sources: list[Source], name: str = "plan-1"
) -> Path:
    """A plan as `splarn plan` would write it, of one of many configurations."""
    chance = world.chance
    form = chance.choice(("csv", "csv", "csv", "jsonl", "parquet"))
    packings = ("zstd:1",) if form == "parquet" else ("none", "gzip:1", "zstd:1")
    configuration = Configuration(
        part_size=chance.choice((4096, 8192, 20_000)),
        format=form,
        packing=Packing.parse(chance.choice(packings), form == "parquet"),
        workers=chance.choice((1, 2)),
        transfer_streams=chance.choice((1, 3)) if depot else 0,
        load_streams=chance.choice((1, 2)),
        batch_rows=chance.choice((0, 40, 90)),
        tier=chance.choice(("u1", "u3")) if target.kind == "millrace" else "u1",
    )
    size = sum(source.path.stat().st_size for source in sources)
    rows = sum(len(source.rows) for source in sources)
    path = world.folder / f"{name}.json"
    write_plan(
        Plan(
            name, configuration, FORECAST, Limits(), True, (),
            tuple(str(source.path) for source in sources), read_layout(world.layout), target.url,
            world.table, mode, BadRows(), Volume(size, rows), size,
            Prices.model_validate({"tiers": {f"u{n}": {"per_hour": n} for n in (1, 2, 3)}}),
            "sweep-1", depot,
        ),
        path,
    )  # fmt: skip
    return path


def carried_out(world: World) -> None:
    """A run that is killed again and again at any stage, its parts and notes of them lost at times.

    Every row is in once, nothing is left behind, and the compute is at rest.
    """
    chance = world.chance
    kind = chance.choice(["millrace", "sqlite", "duckdb", *SERVERS])
    way = chance.choice(["", "", *stores()])
    services = None
    if kind == "millrace" or way == "http":
        services = StandIns(world)
        world.closing.append(services)
    target: Target
    if kind == "millrace":
        assert services is not None
        target = Millrace(world, services)
    else:
        target = ENGINES[kind](world)
    world.closing.append(target)
    depot = {
        "": "", "folder": str(world.folder / "depot"),
        "http": f"{services.depot}/x" if services is not None else "",
        "s3": f"s3://larkmere/{world.table}",
    }[way]  # fmt: skip
    mode = chance.choice(("create", "append", "empty", "replace"))
    before = [] if mode == "create" else [world.file("old.csv", chance.randint(50, 300))]
    if before:
        loaded = ["load", *(str(source.path) for source in before), "--layout", str(world.layout)]
        until_done(world.folder, *loaded, *target.words(), "--json")
    sources = world.files(chance.randint(1, 4), least=100, most=1500, bad=chance.randint(0, 3))
    plan = planned(world, target, depot, mode, sources)
    words = ["run", str(plan), "--yes", "--json"]
    folder = world.folder / ".splarn" / "parts" / "plan-1"
    for _ in range(chance.randint(0, 4)):
        begin(world.folder, *words, env=KEYS).kill_after(chance.uniform(0.1, 2.0))
        lose(world, folder, Path(depot) if way == "folder" else None)
    until_done(world.folder, *words, env=KEYS)
    kept = before if mode == "append" else []
    what = f"{kind} by way of {way or 'nothing'}, {mode}"
    hold(target.rows(), expected(*kept, *sources), what)
    bad = Counter(number for source in sources for number in source.bad)
    hold(rejects_kept(world.folder / "rejects"), bad, f"{what}: rejects")
    assert not folder.exists(), f"{what}: {list(folder.iterdir())} are left"
    if way == "folder":
        assert not list(Path(depot).rglob("*.*")), f"{what}: parts are left in the depot"
    again = splarn(world.folder, *words, env=KEYS)
    assert (again.code, again.json["load"]["done_before"]) == (0, True), again.said
    hold(target.rows(), expected(*kept, *sources), f"{what}, once more")
    if kind == "millrace":
        state = splarn(world.folder, "doctor", "--to", target.url, "--json", env=KEYS)
        assert '"tier": "u1"' in state.out or "u1" in state.out, state.said


def lose(world: World, folder: Path, depot: Path | None) -> None:
    """What may be lost beside a run that is broken off: parts, notes of them, parts in a depot."""
    chance = world.chance
    how = chance.choice(("nothing", "nothing", "parts", "notes", "all", "depot", "cut off"))
    journal = folder / "loaded.jsonl"
    if how == "all":
        shutil.rmtree(folder, ignore_errors=True)
    elif how == "parts":
        for path in folder.glob("gauges-*"):
            if chance.random() < 0.5:
                path.unlink()
    elif how == "notes":
        journal.unlink(missing_ok=True)
    elif how == "cut off" and journal.exists():
        os.truncate(journal, int(journal.stat().st_size * chance.random()))
    elif how == "depot" and depot is not None:
        for path in depot.rglob("*.*"):
            if chance.random() < 0.5:
                path.unlink()

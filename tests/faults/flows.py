"""Rounds over runs whose stages are all at work at the same time, broken off in each of them."""

from __future__ import annotations

import json
import os
import shutil
from collections import Counter
from dataclasses import replace
from pathlib import Path

from splarn.core.check.limit import BadRows
from splarn.core.layout import LINES, Field, Layout
from splarn.core.layout.descriptor import read_layout
from splarn.core.prices import Prices
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan, PlannedKind, write_plan
from tests.faults.common import hold
from tests.faults.depots import KEYS, Millrace, StandIns, stores
from tests.faults.program import begin, splarn, until_done
from tests.faults.world import ENGINES, SERVERS, Source, Target, World, expected, rejects_kept

SOON = {"low": 1.0, "median": 2.0, "high": 3.0}
FORECAST = {"seconds": SOON, "cost": SOON, "phases": {"shape": 1.0, "load": 1.0}}


# What a run may change to while it lasts, which with such a forecast it does at once.
LATE = {name: {"low": 0.001, "median": 0.002, "high": 1000.0 if name == "cost" else 0.003}
        for name in ("seconds", "cost")}  # fmt: skip
OTHERS = tuple(
    {"lever": lever, "value": value, "seconds": 0.001, "load": 0.1, "cost": 0.001}
    for lever, value in (("load_streams", 2), ("tier", "u2"), ("tier", "u3"))
)


def radioed(world: World, source: Source) -> Source:
    """The same rows as another kind of file: JSON lines with other names, numbers as text."""
    path = source.path.with_suffix(".jsonl")
    rows = [*source.rows, *((number, "L00", "dear", "") for number in source.bad)]
    world.chance.shuffle(rows)
    lines = [dict(zip(("no", "lock", "toll", "note"), row, strict=True)) for row in rows]
    text = "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in lines)
    path.write_text(text, encoding="utf-8", newline="")
    source.path.unlink()
    return replace(source, path=path)


def kind_of(world: World, sources: list[Source]) -> tuple[PlannedKind, ...]:
    """Those of a delivery's files that are JSON lines, as a plan has them."""
    paths = [source.path for source in sources if source.path.suffix == ".jsonl"]
    if not paths:
        return ()
    fields = (Field("no", "integer"), Field("lock"), Field("toll"), Field("note"))
    return (
        PlannedKind(
            "radio", tuple(map(str, paths)), Layout("radio", LINES, fields, "jsonl"), world.table,
            {"reading_no": "no", "lock_code": "lock"}, (), sum(one.stat().st_size for one in paths),
        ),
    )  # fmt: skip


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
    own = [source for source in sources if source.path.suffix == ".csv"]
    size = sum(source.path.stat().st_size for source in own)
    rows = sum(len(source.rows) for source in sources)
    path = world.folder / f"{name}.json"
    write_plan(
        Plan(
            name, configuration, {**FORECAST, **LATE}, Limits(), True, (),
            tuple(str(source.path) for source in own), read_layout(world.layout), target.url,
            world.table, mode, BadRows(), Volume(size, rows), size,
            Prices.model_validate({"tiers": {f"u{n}": {"per_hour": n} for n in (1, 2, 3)}}),
            "sweep-1", depot, alternatives=OTHERS, kinds=kind_of(world, sources),
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
    if len(sources) > 1 and chance.random() < 0.3:
        sources[-1] = radioed(world, sources[-1])
    plan = planned(world, target, depot, mode, sources)
    words = ["run", str(plan), "--yes", "--json", *chance.choice((["--adapt"], [], []))]
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
        for path in folder.rglob("*-0*.*"):
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

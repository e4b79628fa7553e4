"""Measured loads, runs and trials as one flat table, for other tools and from other machines."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from splarn.core.errors import RequestError
from splarn.core.ledger import Entry, Ledger
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.laws import PHASE_NAMES
from splarn.core.work.disk import outside

# What can be measured, and how files are written by their ending.
MEASURED = ("load", "run", "trial")
ENDINGS = (".parquet", ".csv", ".json")

# Columns that every row has; times in seconds, volumes unpacked. Those of levers, `phase_…` in
# seconds and `used_…` follow, empty where an entry has none.
COLUMNS: dict[str, pa.DataType] = {
    "kind": pa.string(),
    "id": pa.string(),
    "parent": pa.string(),
    "at": pa.string(),
    "role": pa.string(),
    "repeat": pa.int64(),
    "failure": pa.string(),
    "seconds": pa.float64(),
    "rows": pa.int64(),
    "bytes": pa.int64(),
    "packed_bytes": pa.int64(),
    "parts": pa.int64(),
    "cost": pa.float64(),
    "currency": pa.string(),
    "target": pa.string(),
    "engine": pa.string(),
    "machine": pa.string(),
    "layout": pa.string(),
}
PHASE, USED = "phase_", "used_"
# What a row must tell to be taken in: of everything, and of trials as well.
NEEDED = ("kind", "id", "seconds", "rows")
NEEDED_OF_TRIALS = ("parent", "bytes", "packed_bytes", "parts", "part_size", "codec", "level")
# By how much the phases' sum may differ from the time in all, as a share: work between them.
SLACK = 0.2
SHORTEST = 0.5


def table_of(entries: Sequence[Entry]) -> Any:
    """A pyarrow.Table with a row for each load, run and trial among the entries."""
    sweeps = {one.id: one.document for one in entries if one.kind == "sweep"}
    rows = [_row(one, sweeps) for one in entries if one.kind in MEASURED]
    names = dict.fromkeys(COLUMNS)
    # Levers in the order in which people go through them, then the phases and figures there are.
    names |= dict.fromkeys(
        lever.key for lever in LEVERS.values() if any(lever.key in row for row in rows)
    )
    names |= dict.fromkeys(sorted(key for row in rows for key in row if key not in names))
    return pa.table(
        {name: pa.array([row.get(name) for row in rows], COLUMNS.get(name)) for name in names}
    )


def _row(entry: Entry, sweeps: dict[str, dict[str, Any]]) -> dict[str, Any]:
    document = entry.document
    inner = document.get("load", document)
    timed = document.get("actual", document)
    sweep = sweeps.get(entry.parent, {})
    rows = document.get("rows", inner.get("rows_loaded", 0) + inner.get("rows_rejected", 0))
    cost = document.get("cost")
    row: dict[str, Any] = {
        "kind": entry.kind,
        "id": entry.id,
        "parent": entry.parent,
        "at": entry.at,
        "role": document.get("role"),
        "repeat": document.get("repeat"),
        "failure": document.get("failure") or None,
        "seconds": timed.get("seconds", entry.seconds),
        "rows": rows,
        "bytes": document.get("bytes"),
        "packed_bytes": document.get("packed_bytes"),
        "parts": document["parts"] if isinstance(document.get("parts"), int) else None,
        "cost": cost.get("total") if isinstance(cost, dict) else None,
        "currency": document.get("currency"),
        "target": inner.get("target") or sweep.get("target"),
        "engine": document.get("engine") or sweep.get("engine"),
        "machine": document.get("machine") or sweep.get("machine"),
        "layout": document.get("layout_name") or sweep.get("layout_name"),
    }
    configuration = document.get("configuration", {})
    row |= {key: configuration[key] for key in sorted(configuration)}
    row |= {f"{PHASE}{name}": float(took) for name, took in timed.get("phases", {}).items()}
    return row | {f"{USED}{name}": value for name, value in document.get("used", {}).items()}


def write_table(table: Any, path: Path) -> None:
    """Writes it as Parquet, CSV or a JSON array, by the path's ending.

    Raises RequestError for another ending, OutsideError when the disk refuses.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise RequestError(
            f"What to write {path} as is not known: end it in {', '.join(ENDINGS)}, or in .jsonl "
            "for whole entries."
        )
    with outside(f"Writing {path}"):
        path.parent.mkdir(parents=True, exist_ok=True)
        if ending == ".parquet":
            from pyarrow import parquet

            parquet.write_table(table, path)
        elif ending == ".csv":
            from pyarrow import csv

            csv.write_csv(table, path)
        else:
            rows = ",\n".join(json.dumps(row, ensure_ascii=False) for row in table.to_pylist())
            path.write_text(f"[\n{rows}\n]\n", encoding="utf-8")


def read_table(path: Path) -> list[dict[str, Any]]:
    """The rows of such a table, without what is empty; whichever way it was written.

    Raises RequestError where the file is missing or is none, or its ending is not known.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise RequestError(f"What {path} is is not known: its name must end in {_ENDINGS}.")
    try:
        if ending == ".parquet":
            from pyarrow import parquet

            rows = parquet.read_table(path).to_pylist()
        elif ending == ".csv":
            from pyarrow import csv

            as_text = csv.ConvertOptions(column_types=COLUMNS, strings_can_be_null=True)
            rows = csv.read_csv(path, convert_options=as_text).to_pylist()
        else:
            rows = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise RequestError(f"There is no file {path}: check the path.") from None
    except (OSError, ValueError, pa.ArrowException) as error:
        said = str(error).splitlines()[0]
        raise RequestError(f"{path} cannot be read as a table of measurements: {said}.") from None
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise RequestError(f"{path} is no list of measurements: write one with `ledger --export`.")
    return [{key: value for key, value in row.items() if value is not None} for row in rows]


_ENDINGS = ", ".join(ENDINGS)


def entries_of(rows: Sequence[dict[str, Any]], where: str) -> list[Entry]:
    """Measurements from elsewhere as entries of a ledger; trials with a sweep for each parent.

    `where` names their origin. Raises RequestError that names the row where something is missing,
    no lever has such a value, or times are in another unit.
    """
    entries: list[Entry] = []
    sweeps: dict[str, list[tuple[dict[str, Any], Entry]]] = {}
    for number, row in enumerate(rows, 1):
        try:
            entry = _entry(row, where)
        except RequestError as error:
            raise RequestError(f"{where}, row {number}: {error}") from None
        entries.append(entry)
        if entry.kind == "trial":
            sweeps.setdefault(entry.parent, []).append((row, entry))
    return [_sweep_of(parent, trials, where) for parent, trials in sweeps.items()] + entries


def _entry(row: dict[str, Any], where: str) -> Entry:
    kind = row.get("kind")
    if kind not in MEASURED:
        raise RequestError(f"the kind is {kind!r}; it must be one of {', '.join(MEASURED)}.")
    needed = NEEDED + (NEEDED_OF_TRIALS if kind == "trial" else ())
    missing = [name for name in needed if name not in row]
    if missing:
        raise RequestError(f"{', '.join(missing)} is missing: a {kind} must tell it.")
    phases = {key[len(PHASE) :]: row[key] for key in row if key.startswith(PHASE)}
    failed = bool(row.get("failure"))
    for name, value in {**phases, **{n: row[n] for n in ("seconds", "rows")}}.items():
        if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
            raise RequestError(f"{name} is {value!r}, which is no measured number.")
    if not failed:
        _check_times(row, phases)
    document: dict[str, Any] = {
        "seconds": float(row["seconds"]),
        "phases": {name: float(value) for name, value in phases.items()},
        "imported_from": where,
        **{name: row[name] for name in ("target", "engine", "machine") if name in row},
    }
    if "layout" in row:
        document["layout_name"] = row["layout"]
    if "cost" in row:
        document |= {"cost": {"total": row["cost"]}, "currency": row.get("currency", "units")}
    if kind == "trial":
        document |= _trial(row)
    else:
        document |= {"rows_loaded": int(row["rows"]), "rows_rejected": 0}
    what = "imported"
    if kind == "trial":
        what = str(Configuration.from_json(document["configuration"]))
    id_, parent, at = (str(row.get(name, "")) for name in ("id", "parent", "at"))
    return Entry(kind, id_, parent, at, what, float(row["seconds"]), document)


def _check_times(row: dict[str, Any], phases: dict[str, float]) -> None:
    """Raises RequestError when there are no phases, or they do not add up to the time in all."""
    if "load" not in phases:
        raise RequestError(f"{PHASE}load is missing: times are taken in by phase.")
    unknown = sorted(set(phases) - set(PHASE_NAMES))
    if unknown:
        raise RequestError(
            f"the phase {unknown[0]!r} is not known; phases are {', '.join(PHASE_NAMES)}."
        )
    total, seconds = sum(phases.values()), float(row["seconds"])
    if abs(total - seconds) > max(SLACK * max(total, seconds), SHORTEST):
        times = f"{max(total, seconds) / max(min(total, seconds), 1e-9):,.3g} times"
        raise RequestError(
            f"the phases take {total:,.4g} in all and the whole {seconds:,.4g}, which is {times} "
            "as much: all times must be in seconds."
        )


def _trial(row: dict[str, Any]) -> dict[str, Any]:
    """A trial's own figures. Raises RequestError for a lever's value that cannot be."""
    given: dict[str, Any] = {}
    usual = Configuration.defaults()
    for name, lever in LEVERS.items():
        if name == "packing":
            continue
        if lever.key not in row and lever.key not in usual:
            raise RequestError(f"{lever.key} is missing: a trial must tell each of its levers.")
        given[lever.key] = lever.value(row.get(lever.key, usual.get(lever.key)), lever.key)
    level = int(row["level"])
    packing = LEVERS["packing"].value(f"{row['codec']}:{level}" if level else row["codec"], "codec")
    given |= {"codec": packing.codec, "level": packing.level}
    return {
        "configuration": given,
        "repeat": int(row.get("repeat", 1)),
        "role": row.get("role", "trial"),
        "rows": int(row["rows"]),
        "bytes": int(row["bytes"]),
        "packed_bytes": int(row["packed_bytes"]),
        "parts": int(row["parts"]),
        "started": str(row.get("at", "")),
        "failure": row.get("failure", ""),
    }


def _sweep_of(parent: str, trials: Sequence[tuple[dict[str, Any], Entry]], where: str) -> Entry:
    """The sweep that trials from elsewhere belonged to, as far as they tell of it."""
    row, first = trials[0]
    whole = max(trials, key=lambda pair: pair[1].document["role"] == "trial")[1].document
    document = {
        "target": str(row.get("target", "unknown")),
        "target_id": f"imported {row.get('target', 'unknown')}",
        "layout_name": str(row.get("layout", "unknown")),
        "machine": str(row.get("machine", "unknown")),
        "engine": str(row.get("engine", "")),
        "format": first.document["configuration"]["format"],
        "sample": {"bytes": whole["bytes"], "rows": whole["rows"]},
        "strategy": "imported",
        "state": "done",
        "stopped_because": "imported",
        "imported_from": where,
    }
    seconds = sum(entry.seconds or 0.0 for _, entry in trials)
    summary = f"{len(trials)} trials, imported"
    return Entry("sweep", parent, "", first.at, summary, seconds, document)


def take_in(ledger: Ledger, entries: Sequence[Entry], where: str) -> int:
    """Puts measurements from elsewhere into a ledger; returns how many were new to it.

    Raises RequestError where it has something else of that name; nothing is taken in then.
    """
    known = {(one.kind, one.id): one for one in ledger.entries()}
    new = []
    for entry in entries:
        there = known.get((entry.kind, entry.id))
        if there is None:
            new.append(entry)
        elif entry.kind != "sweep" and abs((there.seconds or 0) - (entry.seconds or 0)) > 1e-6:
            raise RequestError(
                f"{where}: the ledger has another {entry.kind} {entry.id}: give those in the file "
                "other names."
            )
    for entry in new:
        ledger.put(
            entry.kind, entry.id, entry.summary, entry.document, parent=entry.parent,
            seconds=entry.seconds, at=entry.at,
        )  # fmt: skip
    return len(new)

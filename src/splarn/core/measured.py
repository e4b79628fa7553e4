"""Measured loads, runs and trials as one flat table, to be looked at with other tools."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from splarn.core.errors import RequestError
from splarn.core.ledger import Entry
from splarn.core.tuning.configuration import LEVERS
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
    "failure": pa.string(),
    "seconds": pa.float64(),
    "rows": pa.int64(),
    "bytes": pa.int64(),
    "parts": pa.int64(),
    "cost": pa.float64(),
    "currency": pa.string(),
    "target": pa.string(),
    "machine": pa.string(),
}


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
        "failure": document.get("failure") or None,
        "seconds": timed.get("seconds", entry.seconds),
        "rows": rows,
        "bytes": document.get("bytes"),
        "parts": document["parts"] if isinstance(document.get("parts"), int) else None,
        "cost": cost.get("total") if isinstance(cost, dict) else None,
        "currency": document.get("currency"),
        "target": inner.get("target") or sweep.get("target"),
        "machine": document.get("machine") or sweep.get("machine"),
    }
    configuration = document.get("configuration", {})
    row |= {key: configuration[key] for key in sorted(configuration)}
    row |= {f"phase_{name}": float(took) for name, took in timed.get("phases", {}).items()}
    return row | {f"used_{name}": value for name, value in document.get("used", {}).items()}


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

"""A folder of two files of gauge readings, and a load of them."""

from __future__ import annotations

from pathlib import Path

LAYOUT = {
    "name": "gauges",
    "schema": {
        "fields": [
            {"name": "reading_no", "type": "integer", "constraints": {"required": True}},
            {"name": "gauge", "type": "string"},
            {"name": "level", "type": "number", "precision": 9, "scale": 2},
        ]
    },
}


def readings(path: Path, first: int, last: int) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    lines = [f"{n},RM-{n % 9},{n % 700}.50\n" for n in range(first, last + 1)]
    path.write_text("reading_no,gauge,level\n" + "".join(lines))
    return path


LOAD = ("load", "in", "--layout", "layout.json", "--to", "sqlite:///t.db", "--table", "t")

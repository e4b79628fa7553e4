"""What Millrace is told and what it answers, as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from splarn.core.details import LoadDetails
from splarn.core.engine import LoadNote, PartNote
from splarn.core.faults import Fault
from splarn.core.handover import HandedPart, Job, Order
from splarn.core.layout.descriptor import to_descriptor
from splarn.core.marks import marks_text, read_marks


def load_note(
    load_id: str, table: str, state: str, mode: str, started: str, details: str
) -> LoadNote:
    return LoadNote(load_id, table, state, mode, started, LoadDetails.read(details))


def part_note(*note: Any) -> PartNote:
    load_id, part_id, name, state, position, rows, refused, marks = note
    return PartNote(load_id, part_id, name, state, position, rows, refused, read_marks(marks))


def _part(note: PartNote) -> list[Any]:
    return [
        note.load_id, note.part_id, note.name, note.state, note.position, note.rows, note.refused,
        marks_text(note.marks),
    ]  # fmt: skip


def ordered(order: Order, parts: Sequence[HandedPart], places: Sequence[str]) -> dict[str, Any]:
    return {
        "load_id": order.load_id,
        "table": order.table,
        "layout": to_descriptor(order.layout),
        "names": list(order.names),
        "streams": order.streams,
        "batch_rows": order.batch_rows,
        "limit": order.bad_rows.as_json(),
        "parts": [
            {
                "part_id": part.part_id,
                "name": str(part.path),
                "codec": part.codec,
                "place": place,
                "hash": part.hash,
            }
            for part, place in zip(parts, places, strict=True)
        ],
    }


def _job(found: dict[str, Any]) -> Job:
    moments = (found["queued"] or 0.0, found["started"] or 0.0, found["finished"] or 0.0)
    return Job(
        found["part_id"], found["state"], *moments, found["bytes"], found["rows"],
        found["refused"], found["error"], tuple(Fault(**one) for one in found["faults"]),
    )  # fmt: skip

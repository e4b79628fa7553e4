"""What Millrace is told and what it answers, as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from splarn.core.layout.descriptor import to_descriptor
from splarn.core.reading.faults import Fault
from splarn.core.target.details import LoadDetails
from splarn.core.target.handover import HandedPart, PartJob, PartsOrder
from splarn.core.target.marks import marks_text, read_marks
from splarn.core.target.notes import LoadNote, PartNote


def load_note(
    load_id: str, table: str, state: str, mode: str, started: str, details: str
) -> LoadNote:
    return LoadNote(load_id, table, state, mode, started, LoadDetails.read(details))


def part_note(*note: Any) -> PartNote:
    load_id, part_id, name, state, position, rows, refused, marks = note
    return PartNote(
        load_id=load_id,
        part_id=part_id,
        name=name,
        state=state,
        position=position,
        rows=rows,
        refused=refused,
        marks=read_marks(marks),
    )


def note_document(note: PartNote) -> list[Any]:
    return [
        note.load_id, note.part_id, note.name, note.state, note.position, note.rows, note.refused,
        marks_text(note.marks),
    ]  # fmt: skip


def ordered(
    order: PartsOrder, parts: Sequence[HandedPart], places: Sequence[str]
) -> dict[str, Any]:
    return {
        "load_id": order.load_id,
        "table": order.table,
        "layout": to_descriptor(order.layout),
        "names": list(order.names),
        "streams": order.streams,
        "batch_rows": order.batch_rows,
        "limit": order.bad_rows.as_json(),
        "parts": part_documents(parts, places),
    }


def part_documents(parts: Sequence[HandedPart], places: Sequence[str]) -> list[dict[str, str]]:
    return [
        {
            "part_id": part.part_id,
            "name": str(part.path),
            "codec": part.codec,
            "place": place,
            "hash": part.hash,
        }
        for part, place in zip(parts, places, strict=True)
    ]


def part_job(found: dict[str, Any]) -> PartJob:
    waiting, begun, ended = (found[name] or 0.0 for name in ("waiting", "begun", "ended"))
    return PartJob(
        part_id=found["part_id"],
        state=found["state"],
        waiting=waiting,
        begun=begun,
        ended=ended,
        bytes=found["bytes"],
        rows=found["rows"],
        refused=found["refused"],
        error=found["error"],
        faults=tuple(Fault(**one) for one in found["faults"]),
    )

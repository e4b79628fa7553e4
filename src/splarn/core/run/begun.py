"""Loads that a ledger saw begin, so that their notes in a target are missed if they go."""

from __future__ import annotations

from splarn.core.ledger import Ledger
from splarn.core.target.notes import LoadNote


def begun_loads(ledger: Ledger, target_id: str) -> tuple[tuple[str, str], ...]:
    """Loads into a target that this ledger saw begin and never end, each with its table."""
    return tuple(
        (one.id, str(one.document["table"]))
        for one in ledger.entries("load")
        if one.document.get("state") == "begun" and one.document.get("target_id") == target_id
    )


def note_begun(ledger: Ledger, target_id: str, note: LoadNote) -> None:
    """Notes that a load has begun, so that its notes in the target are missed if they go."""
    document = {"state": "begun", "target_id": target_id, "table": note.table}
    ledger.put("load", note.load_id, f"{note.table}: begun", document)

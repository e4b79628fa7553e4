"""Whether the rows of a load are still as it left them: an independent look at the table."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace

from splarn.core.errors import RequestError
from splarn.core.load.verify import compare_digests
from splarn.core.target.details import BYTES
from splarn.core.target.marks import Marks
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.session import Session
from splarn.core.units import plural


def can_tell(session: Session, note: LoadNote, parts: Sequence[PartNote]) -> bool:
    """Whether the rows of a load that is done can be told from others in the table."""
    if note.details.marks is not None:
        return True
    if note.mode in ("append", "renew") and note.details.rows_before:
        return False
    others = any(
        one.state in ("open", "done") and one.load_id != note.load_id
        for one in session.notes.loads(note.table)
    )
    if not others or session.tables.columns(note.table) is None:
        return True
    return session.rows.count(note.table) == sum(part.rows for part in parts)


def changes_since(session: Session, note: LoadNote, parts: Sequence[PartNote]) -> list[str]:
    """What was changed in the table's columns or in the rows of a load that is done, in words.

    A changed row is seen by the engine's own mark of changes or by a figure of all cells; both are
    of the table as the load left it. Rows that cannot be told from others are not looked at.
    Raises OutsideError when the target fails.
    """
    found = _changes(session, note, parts)
    # Another load may have begun between the question whether these rows can be told from others
    # and the look at them; a second look knows of it.
    return _changes(session, note, parts) if found else found


def _changes(session: Session, note: LoadNote, parts: Sequence[PartNote]) -> list[str]:
    details, table = note.details, note.table
    if session.tables.columns(table) is None:
        return [f"{table} is gone"]
    rows = sum(part.rows for part in parts)
    changes = _columns(session, note)
    if not can_tell(session, note, parts):
        return changes
    marks = details.marks
    there = session.rows.count(table, marks)
    if there != rows:
        change = f"{there:,} of its {plural(rows, 'row')} are there as it left them"
        if marks is None:
            change = f"{table} holds {plural(there, 'row')} now and had {rows:,} after it"
        return [*changes, change]
    if changes:
        return changes
    if details.fingerprint is not None:
        now = session.digests.fingerprint(table, marks, details.fingerprint)
        if now == details.fingerprint:
            return []
        if now.partition(":")[0] != details.fingerprint.partition(":")[0]:
            return ["it was loaded with another version of the engine, which leaves no way to see"]
        return _digests(session, note, marks) or ["cells of its rows have other values now"]
    return _digests(session, note, marks)


def changed_since(note: LoadNote, what: str, change: str) -> RequestError:
    """Of content that a load brought in, where the table no longer is as it left it."""
    return RequestError(
        f"The load {note.load_id} of {note.started[:19]} UTC brought {what} into {note.table}, and "
        f"its rows have been changed since ({change}): give --again to load it twice, or take that "
        f"load back first with `splarn undo {note.load_id}`."
    )


def fingerprint(session: Session, table: str, marks: Marks | None) -> str | None:
    """What a change will be seen by; None where the engine marks changed rows itself."""
    if marks is not None and session.rows.marks_changes:
        return None
    return session.digests.fingerprint(table, marks)


def _columns(session: Session, note: LoadNote) -> list[str]:
    before, now = note.details.columns_after, session.tables.columns_text(note.table)
    if not before or before == now:
        return []
    was, there = dict(json.loads(before)), dict(json.loads(now))
    changes = [f"the column {name} was added" for name in there if name not in was]
    changes += [f"the column {name} was removed" for name in was if name not in there]
    changes += [
        f"the column {name} is {there[name]} and was {kind}"
        for name, kind in was.items()
        if name in there and there[name] != kind
    ]
    return changes or ["its columns are in another order"]


def _digests(session: Session, note: LoadNote, marks: Marks | None) -> list[str]:
    loaded = note.details.digests
    if loaded is None:
        return []
    fields = note.details.fields
    there = session.digests.of_columns(note.table, fields, marks)
    if note.details.text_sums != BYTES:
        # Those of an earlier Splarn counted something else, and only say how many there are.
        loaded = tuple(
            replace(mine, sum=now.sum) if field.is_text else mine
            for mine, now, field in zip(loaded, there, fields, strict=True)
        )
    return [
        f"cells of the column {mine.name} have other values now"
        for mine, now in zip(loaded, there, strict=True)
        if compare_digests([mine], [], [now])
    ]

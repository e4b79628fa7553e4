"""Taking a load back: its rows out, those from before in again, or a clear no."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from splarn.core.engine import LoadNote, OpenEngine, PartNote, Session, TableIndex
from splarn.core.errors import OutsideError, RequestError
from splarn.core.load.finish import rows_since
from splarn.core.load.opening import beside
from splarn.core.load.standing import can_tell, changes_since
from splarn.core.marks import Marks, joined


@dataclass(frozen=True)
class Undone:
    """What taking a load back did: rows removed and brought back, and what was done, in words."""

    load_id: str
    table: str
    place: str
    rows_removed: int
    rows_restored: int
    what: str


@dataclass(frozen=True)
class _Way:
    """How a load can be taken back: the act, what it is in words, and the rows it concerns.

    A verb in the words is written once for before and once for after: `[removes|removed]`.
    """

    act: Callable[[], None]
    words: str
    removes: int
    restores: int = 0
    # Whether the act did what it was to do, asked of the table in the same transaction.
    gone: Callable[[], bool] = lambda: True

    def said(self, after: bool) -> str:
        """The words, before or after the act."""
        return _VERB.sub(lambda found: found[2 if after else 1], self.words)


_VERB = re.compile(r"\[(\w+)\|(\w+)\]")


def undo(
    open_engine: OpenEngine,
    load_id: str,
    *,
    confirm: Callable[[str], bool] | None = None,
    with_changes: bool = False,
) -> Undone:
    """Takes a load back, whole or unfinished, where that is exact. `load_id` may be its start.

    `confirm` is asked with a sentence about what will happen. What was changed in its rows or in
    the table since goes too only where `with_changes` says so.
    Raises RequestError when there is no such load or it cannot be taken back exactly, OutsideError
    when the target fails or the load is being carried out.
    """
    engine = open_engine()
    session = engine.connect()
    try:
        note = _find(session, load_id, engine.place)
        session.lock(note.table)
        if not session.claim(note.load_id):
            raise OutsideError(
                f"The load {note.load_id} is being carried out at this moment: stop it first."
            )
        session.settle(note.load_id)
        note = next(one for one in session.loads(note.table) if one.load_id == note.load_id)
        if note.state == "undone":
            raise RequestError(f"The load {note.load_id} has been taken back already.")
        if note.state == "lost":
            raise _no(note, "its notes were removed by somebody")
        parts = session.parts([note.load_id])
        if note.state == "done" and not note.details.before and not can_tell(session, note, parts):
            raise _no(note, "other rows are there too, and nothing tells them from its own")
        changed = changes_since(session, note, parts) if note.state == "done" else []
        if changed and not with_changes and session.columns(note.table) is not None:
            raise RequestError(
                f"The load {note.load_id} into {note.table} was not taken back, because "
                f"{'; '.join(changed[:3])}: that would go too; give --with-changes if it may."
            )
        way = _way(session, note, parts, bool(changed))
        sentence = f"Taking back the load {note.load_id} {way.said(False)}"
        if confirm is not None and not confirm(sentence):
            raise RequestError(f"{sentence}: give --yes to agree.")
        way.act()
        if not way.gone():
            session.rollback()
            raise OutsideError(
                f"The load {note.load_id} could not be taken back: {note.table} still holds rows "
                "that should have gone, or lacks rows from before; nothing was changed."
            )
        _end(session, note)
        session.commit()
        _clean_up(session, note)
        session.release(note.table)
        what = way.said(True)
        return Undone(note.load_id, note.table, engine.place, way.removes, way.restores, what)
    finally:
        session.rollback()
        session.close()


def _find(session: Session, start: str, place: str) -> LoadNote:
    loads = session.loads()
    hits = [note for note in loads if note.load_id.startswith(start)]
    hits = [note for note in hits if note.load_id == start] or hits
    if len(hits) == 1:
        return hits[0]
    if not hits:
        raise RequestError(
            f"{place} notes no load {start}: `splarn ledger --kind load` lists them."
        )
    raise RequestError(f"{len(hits)} loads of {place} begin with {start}: give more of the id.")


def _way(session: Session, note: LoadNote, parts: Sequence[PartNote], changed: bool) -> _Way:
    details, table = note.details, note.table
    rows = sum(part.rows for part in parts)
    if note.state == "emptied":
        later = [one for one in session.loads(table) if note.load_id in dict(one.details.ended)]
        whose = f"the load {later[-1].load_id}" if later else "a later load"
        raise RequestError(
            f"The rows of {note.load_id} left {table} with {whose}, so there is nothing to take "
            "back; taking that one back may bring them in again."
        )
    swapped = details.stage == "swap" and session.columns(details.aside) is None
    if session.columns(table) is None:
        return _Way(lambda: None, f"only [ends|ended] its note, since {table} is gone", 0)
    if details.stage == "prepare" or (details.aside and note.state == "open" and not swapped):
        return _beside(session, note, rows)
    if note.mode == "replace" and (details.before or not details.made):
        return _swap_back(session, note, rows)
    if note.mode == "empty" and details.rows_before:
        return _refill(session, note, rows)
    return _take_out(session, note, parts, rows, changed)


def _beside(session: Session, note: LoadNote, rows: int) -> _Way:
    """Nothing has reached the table itself; what lies beside it is removed with the note."""

    def act() -> None:
        if note.details.made and not session.count(note.table):
            session.drop(note.table)

    return _Way(act, f"[removes|removed] {rows:,} rows that lie beside {note.table}", 0)


def _swap_back(session: Session, note: LoadNote, rows: int) -> _Way:
    before, table = note.details.before, note.table
    if not before:
        raise _no(note, "the table from before was not kept (--no-before)")
    if session.columns(before) is None:
        # An earlier try was broken off after its swap.
        return _Way(lambda: None, f"[brings|brought] back the table that {table} was before", 0)
    restored = note.details.rows_before
    there = session.count(before)
    if there != restored:
        raise _no(note, f"{before} holds {there:,} rows and {restored:,} were there before")

    def act() -> None:
        session.drop(_trash(note))
        session.swap(table, before, _trash(note))

    how = f"[puts|put] the table with {restored:,} rows back in the place of {table} with {rows:,}"
    return _Way(act, how, rows, restored, lambda: session.count(table) == restored)


def _refill(session: Session, note: LoadNote, rows: int) -> _Way:
    details, table = note.details, note.table
    if not details.before:
        raise _no(note, "the rows from before were not kept (--no-before)")

    def act() -> None:
        session.empty(table)
        restored, marks = session.pour(details.before, table)
        if restored != details.rows_before:
            raise OutsideError(
                f"{details.before} holds {restored:,} rows, not the {details.rows_before:,} that "
                f"were in {table}: nothing was changed."
            )
        _mark_again(session, note, marks)

    how = (
        f"[removes|removed] its {rows:,} rows from {table} and [brings|brought] back "
        f"{details.rows_before:,}"
    )
    return _Way(
        act, how, rows, details.rows_before, lambda: session.count(table) == details.rows_before
    )


def _mark_again(session: Session, note: LoadNote, marks: Marks | None) -> None:
    """Notes by what the rows of the only load before are told, now that they were put in anew.

    Its marks stay as they were, and fit no longer, where its rows had been changed by then.
    """
    ended = dict(note.details.ended)
    earlier = [one for one in session.loads(note.table) if one.load_id in ended]
    if len(earlier) == 1 and ended[earlier[0].load_id] == "done" and not note.details.touched:
        rows = sum(part.rows for part in session.parts([earlier[0].load_id]))
        if rows == note.details.rows_before:
            details = earlier[0].details.with_(marks=marks)
            session.note_load(replace(earlier[0], details=details))


def _take_out(
    session: Session, note: LoadNote, parts: Sequence[PartNote], rows: int, changed: bool
) -> _Way:
    details, table = note.details, note.table
    there = session.count(table)
    others = any(
        one.state in ("open", "done") and one.load_id != note.load_id
        for one in session.loads(table)
    )
    # Rows that nobody has noted may be there too, and go with the table only by a second word.
    alone = there == rows or (changed and not others)
    if details.made and alone:
        how = f"[removes|removed] the table {table} that it had made, with its {there:,} rows"
        return _Way(
            lambda: session.drop(table), how, there, gone=lambda: session.columns(table) is None
        )
    marks = details.marks
    if note.state == "open":
        numbered = details.last_row is not None
        marks = rows_since(session, note) if numbered else joined(part.marks for part in parts)
    if marks is None and alone:
        return _Way(
            lambda: session.empty(table),
            f"[removes|removed] the {there:,} rows of {table}",
            there,
            gone=lambda: not session.count(table),
        )
    if marks is None:
        raise _no(note, "other rows are there too, and nothing tells them from its own")
    found = session.count(table, marks)
    if found != rows and not changed:
        raise _no(note, f"{found:,} of its {rows:,} rows are there as it left them")

    def act() -> None:
        removed = session.remove(table, marks)
        if removed != found:
            raise OutsideError(
                f"{removed:,} rows of {table} would have gone and {found:,} were meant, so nothing "
                "was changed: someone else is at work on them; try again."
            )

    return _Way(
        act,
        f"[removes|removed] its {found:,} rows from {table} and no others",
        found,
        gone=lambda: not session.count(table, marks),
    )


def _no(note: LoadNote, why: str) -> RequestError:
    return RequestError(
        f"The load {note.load_id} into {note.table} cannot be taken back exactly, because {why}; "
        "nothing was changed."
    )


def _end(session: Session, note: LoadNote) -> None:
    """Notes the load as taken back, and those it ended as what they were."""
    was = dict(note.details.ended)
    back = [
        earlier
        for earlier in session.loads(note.table)
        if earlier.load_id in was and earlier.state == "emptied"
    ]
    for earlier in back:
        session.note_load(replace(earlier, state=was[earlier.load_id]))
    session.note_load(replace(note, state="undone"))


def _clean_up(session: Session, note: LoadNote) -> None:
    session.lock(note.table)
    for table in (note.details.aside, note.details.before, _trash(note)):
        if table:
            session.drop(table)
    if session.columns(note.table) is not None:
        for name, statement in note.details.indexes:
            session.restore_index(note.table, TableIndex(name, statement, False))
    ended = note.details.with_(aside="", before="", indexes=(), stage="")
    session.note_load(replace(note, state="undone", details=ended))
    session.commit()


def _trash(note: LoadNote) -> str:
    """The name of a table on its way out."""
    return beside(note.table, "gone", note.load_id)

"""Taking a load back: its rows out, those from before in again, or a clear no."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from splarn.core.engine import LoadNote, OpenEngine, PartNote, Session, TableIndex
from splarn.core.errors import OutsideError, RequestError
from splarn.core.load.finish import rows_since
from splarn.core.load.opening import beside
from splarn.core.load.verify import compare_digests
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

    def said(self, after: bool) -> str:
        """The words, before or after the act."""
        return _VERB.sub(lambda found: found[2 if after else 1], self.words)


_VERB = re.compile(r"\[(\w+)\|(\w+)\]")


def undo(
    open_engine: OpenEngine,
    load_id: str,
    *,
    confirm: Callable[[str], bool] | None = None,
) -> Undone:
    """Takes a load back, whole or unfinished, where that is exact. `load_id` may be its start.

    `confirm` is asked with a sentence about what will happen.
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
        parts = session.parts([note.load_id])
        way = _way(session, note, parts)
        sentence = f"Taking back the load {note.load_id} {way.said(False)}"
        if confirm is not None and not confirm(sentence):
            raise RequestError(f"{sentence}: give --yes to agree.")
        way.act()
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


def _way(session: Session, note: LoadNote, parts: Sequence[PartNote]) -> _Way:
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
    return _take_out(session, note, parts, rows)


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
    _only_its_rows(session, note, rows)

    def act() -> None:
        session.drop(_trash(note))
        session.swap(table, before, _trash(note))

    restored = note.details.rows_before
    how = f"[puts|put] the table with {restored:,} rows back in the place of {table} with {rows:,}"
    return _Way(act, how, rows, restored)


def _refill(session: Session, note: LoadNote, rows: int) -> _Way:
    details, table = note.details, note.table
    if not details.before:
        raise _no(note, "the rows from before were not kept (--no-before)")
    _only_its_rows(session, note, rows)

    def act() -> None:
        session.empty(table)
        restored, _ = session.pour(details.before, table)
        if restored != details.rows_before:
            raise OutsideError(
                f"{details.before} holds {restored:,} rows, not the {details.rows_before:,} that "
                f"were in {table}: nothing was changed."
            )

    how = (
        f"[removes|removed] its {rows:,} rows from {table} and [brings|brought] back "
        f"{details.rows_before:,}"
    )
    return _Way(act, how, rows, details.rows_before)


def _take_out(session: Session, note: LoadNote, parts: Sequence[PartNote], rows: int) -> _Way:
    details, table = note.details, note.table
    alone = session.count(table) == rows
    if details.made and alone:
        _same(session, note, None)
        how = f"[removes|removed] the table {table} with its {rows:,} rows, which the load had made"
        return _Way(lambda: session.drop(table), how, rows)
    marks = details.marks
    if note.state == "open":
        numbered = details.last_row is not None
        marks = rows_since(session, note) if numbered else joined(part.marks for part in parts)
    if marks is None and alone:
        _same(session, note, None)
        return _Way(
            lambda: session.empty(table), f"[removes|removed] the {rows:,} rows of {table}", rows
        )
    if marks is None:
        raise _no(note, "other rows are there too, and nothing tells them from its own")
    found = session.count(table, marks)
    if found != rows:
        raise _no(note, f"{found:,} of its {rows:,} rows are there as it left them")
    _same(session, note, marks)

    def act() -> None:
        removed = session.remove(table, marks)
        if removed != rows:
            raise OutsideError(
                f"{removed:,} rows of {table} would have gone and {rows:,} were meant, so nothing "
                "was changed: someone else is at work on them; try again."
            )

    return _Way(act, f"[removes|removed] its {rows:,} rows from {table} and no others", rows)


def _only_its_rows(session: Session, note: LoadNote, rows: int) -> None:
    found = session.count(note.table)
    if found != rows:
        raise _no(note, f"{note.table} holds {found:,} rows now and had {rows:,} after it")
    _same(session, note, None)


def _same(session: Session, note: LoadNote, marks: Marks | None) -> None:
    """Raises RequestError when the rows are no longer what was loaded."""
    loaded = note.details.digests
    if loaded is None:
        return
    found = session.digest(note.table, note.details.fields, marks)
    differences = compare_digests(loaded, [], found)
    if differences:
        raise _no(note, f"its rows have been changed since ({differences[0]})")


def _no(note: LoadNote, why: str) -> RequestError:
    return RequestError(
        f"The load {note.load_id} into {note.table} cannot be taken back exactly, because {why}; "
        "nothing was changed."
    )


def _end(session: Session, note: LoadNote) -> None:
    """Notes the load as taken back, and those it ended as what they were."""
    was = dict(note.details.ended)
    for earlier in session.loads(note.table):
        if earlier.load_id in was and earlier.state == "emptied":
            session.note_load(replace(earlier, state=was[earlier.load_id]))
    session.note_load(replace(note, state="undone"))


def _clean_up(session: Session, note: LoadNote) -> None:
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

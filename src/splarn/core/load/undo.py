"""Taking a load back: its rows out, those from before in again, or a clear no."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from splarn.core.errors import OutsideError, RequestError
from splarn.core.load.finish import rows_since
from splarn.core.load.opening import beside
from splarn.core.load.refusals import merging_of
from splarn.core.load.standing import can_tell, changes_since
from splarn.core.target.marks import Marks, joined
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.session import OpenEngine, Session
from splarn.core.target.tables import TableIndex
from splarn.core.units import plural


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
        session.claims.take_turn(note.table)
        if not session.claims.claim(note.load_id):
            raise OutsideError(
                f"The load {note.load_id} is being carried out at this moment: stop it first."
            )
        session.claims.await_batches(note.load_id)
        note = next(one for one in session.notes.loads(note.table) if one.load_id == note.load_id)
        if note.state == "undone":
            raise RequestError(f"The load {note.load_id} has been taken back already.")
        if note.state == "lost":
            raise _no(note, "its notes were removed by somebody")
        parts = session.notes.parts([note.load_id])
        if note.state == "done" and not note.details.before and not can_tell(session, note, parts):
            raise _no(note, "other rows are there too, and nothing tells them from its own")
        changed = changes_since(session, note, parts) if note.state == "done" else []
        if changed and not with_changes and session.tables.columns(note.table) is not None:
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
        session.claims.end_turn(note.table)
        done = way.said(True)
        return Undone(note.load_id, note.table, engine.place, way.removes, way.restores, done)
    finally:
        session.rollback()
        session.close()


def _find(session: Session, start: str, place: str) -> LoadNote:
    loads = session.notes.loads()
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
        later = [
            one for one in session.notes.loads(table) if note.load_id in dict(one.details.ended)
        ]
        whose = f"the load {later[-1].load_id}" if later else "a later load"
        raise RequestError(
            f"The rows of {note.load_id} left {table} with {whose}, so there is nothing to take "
            "back; taking that one back may bring them in again."
        )
    swapped = details.stage == "swap" and session.tables.columns(details.side_table) is None
    if session.tables.columns(table) is None:
        return _Way(lambda: None, f"only [ends|ended] its note, since {table} is gone", 0)
    if details.stage == "prepare" or (details.side_table and note.state == "open" and not swapped):
        return _beside(session, note, rows)
    if note.mode == "replace" and (details.before or not details.made):
        return _swap_back(session, note, rows, changed)
    if note.mode == "renew" and details.rows_before and note.state == "done":
        return _give_back(session, note, rows)
    if note.mode == "empty" and details.rows_before:
        return _refill(session, note, rows, changed)
    return _take_out(session, note, parts, rows, changed)


def _beside(session: Session, note: LoadNote, rows: int) -> _Way:
    """Nothing has reached the table itself; what lies beside it is removed with the note."""

    def act() -> None:
        if note.details.made and not session.rows.count(note.table):
            session.tables.drop(note.table)

    return _Way(act, f"[removes|removed] {plural(rows, 'row')} that lie beside {note.table}", 0)


def _is_alone(session: Session, note: LoadNote, rows: int, changed: bool) -> bool:
    """Whether the table holds the load's rows and no others that anybody has noted.

    Rows that nobody has noted may be there too, and go with its own only by a second word.
    """
    if session.rows.count(note.table) == rows:
        return True
    return changed and not any(
        one.state in ("open", "done") and one.load_id != note.load_id
        for one in session.notes.loads(note.table)
    )


def _swap_back(session: Session, note: LoadNote, rows: int, changed: bool) -> _Way:
    before, table = note.details.before, note.table
    if not before:
        raise _no(note, "the table from before was not kept (--no-keep-old)")
    if session.tables.columns(before) is None:
        # An earlier try was broken off after its swap.
        return _Way(lambda: None, f"[brings|brought] back the table that {table} was before", 0)
    restored = note.details.rows_before
    there = session.rows.count(before)
    if there != restored:
        raise _no(note, f"{before} holds {plural(there, 'row')} and {restored:,} were there before")
    if not _is_alone(session, note, rows, changed):
        others = plural(session.rows.count(table) - rows, "row")
        raise _no(note, f"{others} that came after it would go too: take those back first")

    def act() -> None:
        session.tables.drop(_trash(note))
        session.tables.swap(table, before, _trash(note))

    back = plural(restored, "row")
    sentence = f"[puts|put] the table with {back} back in the place of {table} with {rows:,}"
    return _Way(act, sentence, rows, restored, lambda: session.rows.count(table) == restored)


def _refill(session: Session, note: LoadNote, rows: int, changed: bool) -> _Way:
    details, table = note.details, note.table
    if not details.before:
        raise _no(note, "the rows from before were not kept (--no-keep-old)")
    alone, marks = _is_alone(session, note, rows, changed), details.marks
    if not alone and marks is None:
        raise _no(note, "rows came after it, and nothing tells them from its own")
    there = session.rows.count(table)
    removes = rows if alone or marks is None else session.rows.count(table, marks)
    stay = 0 if alone else there - removes

    def act() -> None:
        if alone or marks is None:
            session.rows.empty(table)
        else:
            session.rows.remove(table, marks)
        restored, again = session.rows.copy(details.before, table)
        if restored != details.rows_before:
            raise OutsideError(
                f"{details.before} holds {plural(restored, 'row')}, not the "
                f"{details.rows_before:,} that "
                f"were in {table}: nothing was changed."
            )
        _mark_again(session, note, again)

    sentence = (
        f"[removes|removed] its {plural(removes, 'row')} from {table} and [brings|brought] back "
        f"{details.rows_before:,}"
    )
    if stay:
        sentence += f"; {plural(stay, 'row')} that came after it [stay|stayed]"
    return _Way(
        act,
        sentence,
        removes,
        details.rows_before,
        lambda: session.rows.count(table) == details.rows_before + stay,
    )


def _give_back(session: Session, note: LoadNote, rows: int) -> _Way:
    """Its partitions are again what they were, but for what came into them after it."""
    details, table = note.details, note.table
    if not details.before:
        raise _no(note, "the rows from before were not kept (--no-keep-old)")
    if details.marks is None:
        raise _no(note, "nothing tells its rows from others")
    marks, there = details.marks, session.rows.count(table)
    removes = session.rows.count(table, marks)
    merging = merging_of(session)
    restores = merging.give_back(table, details.before, marks, False)

    def act() -> None:
        merging.give_back(table, details.before, marks, True)
        session.rows.remove(table, marks)

    return _Way(
        act,
        f"[removes|removed] its {plural(removes, 'row')} from {table} and [brings|brought] back "
        f"{restores:,} that they had taken the place of",
        removes,
        restores,
        lambda: session.rows.count(table) == there - removes + restores,
    )


def _mark_again(session: Session, note: LoadNote, marks: Marks | None) -> None:
    """Notes by what the rows of the only load before are told, now that they were put in anew.

    Its marks stay as they were, and fit no longer, where its rows had been changed by then.
    """
    ended = dict(note.details.ended)
    earlier = [one for one in session.notes.loads(note.table) if one.load_id in ended]
    if len(earlier) == 1 and ended[earlier[0].load_id] == "done" and not note.details.touched:
        rows = sum(part.rows for part in session.notes.parts([earlier[0].load_id]))
        if rows == note.details.rows_before:
            details = earlier[0].details.with_(marks=marks)
            session.notes.put_load(replace(earlier[0], details=details))


def _take_out(
    session: Session, note: LoadNote, parts: Sequence[PartNote], rows: int, changed: bool
) -> _Way:
    details, table = note.details, note.table
    there = session.rows.count(table)
    alone = _is_alone(session, note, rows, changed)
    if details.made and alone:
        sentence = (
            f"[removes|removed] the table {table} that it had made, with its {plural(there, 'row')}"
        )
        return _Way(
            lambda: session.tables.drop(table),
            sentence,
            there,
            gone=lambda: session.tables.columns(table) is None,
        )
    marks = details.marks
    if note.state == "open":
        numbered = details.last_row is not None
        marks = rows_since(session, note) if numbered else joined(part.marks for part in parts)
    if marks is None and alone:
        return _Way(
            lambda: session.rows.empty(table),
            f"[removes|removed] the {plural(there, 'row')} of {table}",
            there,
            gone=lambda: not session.rows.count(table),
        )
    if marks is None:
        raise _no(note, "other rows are there too, and nothing tells them from its own")
    present = session.rows.count(table, marks)
    if present != rows and not changed:
        raise _no(note, f"{present:,} of its {plural(rows, 'row')} are there as it left them")

    def act() -> None:
        removed = session.rows.remove(table, marks)
        if removed != present:
            raise OutsideError(
                f"{plural(removed, 'row')} of {table} would have gone and {present:,} were meant, "
                "so nothing "
                "was changed: someone else is at work on them; try again."
            )

    return _Way(
        act,
        f"[removes|removed] its {plural(present, 'row')} from {table} and no others",
        present,
        gone=lambda: not session.rows.count(table, marks),
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
        for earlier in session.notes.loads(note.table)
        if earlier.load_id in was and earlier.state == "emptied"
    ]
    for earlier in back:
        session.notes.put_load(replace(earlier, state=was[earlier.load_id]))
    session.notes.put_load(replace(note, state="undone"))


def _clean_up(session: Session, note: LoadNote) -> None:
    session.claims.take_turn(note.table)
    for table in (note.details.side_table, note.details.before, _trash(note)):
        if table:
            session.tables.drop(table)
    if session.tables.columns(note.table) is not None:
        for name, statement in note.details.indexes:
            session.tables.restore_index(note.table, TableIndex(name, statement, False))
    ended = note.details.with_(side_table="", before="", indexes=(), stage="")
    session.notes.put_load(replace(note, state="undone", details=ended))
    session.commit()


def _trash(note: LoadNote) -> str:
    """The name of a table on its way out."""
    return beside(note.table, "gone", note.load_id)

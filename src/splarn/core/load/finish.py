"""The end of a load: what came in held against what was read, moved or swapped in, and noted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.errors import OutsideError, RefusedError
from splarn.core.layout import Field
from splarn.core.load.opening import clear, end_earlier
from splarn.core.load.refusals import Confirm, merging_of, refuse_to_renew
from splarn.core.load.request import LoadRequest
from splarn.core.load.sampling import spread
from splarn.core.load.standing import fingerprint
from splarn.core.load.table import match_table, stored
from splarn.core.load.task import PartResult
from splarn.core.load.verify import compare_digests
from splarn.core.target.details import BYTES
from splarn.core.target.digest import ColumnDigest, add_digests
from splarn.core.target.hashing import RowSum
from splarn.core.target.marks import Marks, joined
from splarn.core.target.notes import LoadNote
from splarn.core.target.session import Session
from splarn.core.target.tables import ReadBack, TableIndex
from splarn.core.units import plural

ANOTHER_HASH = (
    "By a hash of every cell the rows in the table are not those that were read: the target stores "
    "some of their values otherwise (rounded, padded, or changed by a rule of its own), or hashes "
    "them in a way that is not known here."
)
# Rows that are read back and compared value by value.
SAMPLED = 2000


class MoveRefusedError(RefusedError):
    """The target refused rows while they were moved from a landing table; none was moved."""


@dataclass(frozen=True)
class Finished:
    """`verified` is None where the rows could not be held against what was read.

    `compared` rows were looked for in the table, value by value. `hashed` is the sum of all row
    hashes, where it was the same in the table as in what was read.
    """

    verified: bool | None
    differences: tuple[str, ...]
    digests: tuple[ColumnDigest, ...]
    notes: tuple[str, ...] = ()
    compared: int = 0
    hashed: RowSum | None = None


def finish(
    session: Session,
    request: LoadRequest,
    note: LoadNote,
    results: Sequence[PartResult],
    confirm: Confirm | None = None,
) -> Finished:
    """Verifies what lies in the table or beside it, moves it in where it belongs, notes the end.

    What differs beside the table is not moved in, and the load stays unfinished, as it does where
    more rows would have to give way than come and `confirm` does not agree (RequestError).
    """
    finished = _verify(session, request, note, results)
    if finished.differences and note.details.side_table:
        return finished
    session.claims.take_turn(request.table)
    if note.mode == "renew" and note.state != "done":
        refuse_to_renew(session, note, sum(one.note.rows for one in results), confirm)
    published = _publish(session, request, note, results, finished)
    if published.differences:
        session.rollback()
        return replace(finished, verified=False, differences=published.differences, notes=())
    told = _note_end(session, request, published, finished.digests, results)
    return replace(
        finished,
        notes=tuple(dict.fromkeys((*finished.notes, *published.notes, *told))),
        compared=max(finished.compared, published.compared),
        hashed=published.hashed,
    )


def _verify(
    session: Session, request: LoadRequest, note: LoadNote, results: Sequence[PartResult]
) -> Finished:
    """Holds what the table answers against what was read: digests, and rows value by value."""
    details = note.details
    fields = stored(request.layout, details.names).fields
    read: list[ColumnDigest] | None = None
    for result in results:
        read = add_digests(read, result.digests) if result.digests else read
    digests = tuple(read or (ColumnDigest(field.name) for field in fields))
    if not request.verify or _is_swapped(session, note):
        return Finished(None, (), digests)
    found = _look(session, note, results, fields, digests)
    # Another load may have begun between the question whether these rows are alone and the look at
    # them. What truly differs still does in a second look, which knows of that load.
    return _look(session, note, results, fields, digests) if found.differences else found


def _look(
    session: Session,
    note: LoadNote,
    results: Sequence[PartResult],
    fields: Sequence[Field],
    digests: tuple[ColumnDigest, ...],
) -> Finished:
    marks = _marks(session, note, results)
    alone = _alone(session, note, marks)
    hashed, doubt = _held(session, note, results, alone)
    if hashed is not None:
        return Finished(True, (), digests, hashed=hashed)
    verified: bool | None = None
    differences: list[str] = []
    notes: list[str] = list(doubt)
    there = _table_digests(session, note, fields, alone)
    if there is None:
        notes.append(
            f"Other rows came into {note.table} meanwhile and nothing tells them from these, "
            "so they could not be held against what was read."
        )
    else:
        table, before = there
        differences = compare_digests(list(digests), before, table)
        verified = True
    compared = 0
    sample = spread([result.sample for result in results], SAMPLED)
    if sample is not None:
        back = session.digests.read_back(note.details.side_table or note.table, fields, sample)
        compared = back.looked_for
        differences += _told(back)
    return Finished(
        False if differences else verified, tuple(differences), digests, tuple(notes), compared
    )


@dataclass(frozen=True)
class _Published:
    """The load with its rows where they belong: its note, and what tells them from others.

    `differences` say why they must not stay there. `compared` and `hashed` are as in Finished, of
    the rows where they are now.
    """

    note: LoadNote
    marks: Marks | None
    differences: tuple[str, ...] = ()
    compared: int = 0
    hashed: RowSum | None = None
    notes: tuple[str, ...] = ()


def _publish(
    session: Session,
    request: LoadRequest,
    note: LoadNote,
    results: Sequence[PartResult],
    finished: Finished,
) -> _Published:
    """Swaps a table in or moves rows over, in the open transaction."""
    details = note.details
    if not details.side_table:
        return _Published(note, _marks(session, note, results), hashed=finished.hashed)
    if details.swaps:
        swapped = _swap_in(session, note, _is_swapped(session, note))
        tells = session.rows.marks_changes
        marks = joined(result.note.marks for result in results) if tells else None
        return _Published(swapped, marks, hashed=finished.hashed)
    marks = _move_over(session, note, sum(result.note.rows for result in results))
    if not request.verify:
        return _Published(note, marks)
    # A rule of the table itself may have changed what the landing table held as it was read.
    alone = _alone(session, replace(note, details=details.with_(side_table="")), marks)
    hashed, doubt = _held(session, note, results, alone, moved=True)
    sample = None if hashed else spread([result.sample for result in results], SAMPLED)
    if sample is None:
        return _Published(note, marks, hashed=hashed, notes=doubt)
    fields = stored(request.layout, details.names).fields
    back = session.digests.read_back(note.table, fields, sample)
    return _Published(note, marks, tuple(_told(back)), back.looked_for, notes=doubt)


def _note_end(
    session: Session,
    request: LoadRequest,
    published: _Published,
    digests: tuple[ColumnDigest, ...],
    results: Sequence[PartResult],
) -> list[str]:
    """Notes the load as done and commits; what a person should know besides."""
    note, marks = published.note, published.marks
    rows = sum(result.note.rows for result in results)
    for name, statement in note.details.indexes:
        session.tables.restore_index(note.table, TableIndex(name, statement, False))
    layout = stored(request.layout, note.details.names)
    identity = match_table(session, note.table, layout).identity
    told = session.tables.continue_numbers(note.table, identity) if identity else ""
    ended = note.details.with_(
        stage="",
        digests=digests,
        text_sums=BYTES,
        digests_before=None,
        marks=marks,
        columns_after=session.tables.columns_text(note.table),
        fingerprint=_fingerprint(session, published, rows),
    )
    done = replace(note, state="done", details=ended)
    session.notes.put_load(done)
    session.commit()
    clean_up(session, done, request.keep_old)
    session.claims.end_turn(request.table)
    return [told] if told else []


def _is_swapped(session: Session, note: LoadNote) -> bool:
    """Whether the side table has taken its place already, and only the end was not noted."""
    details = note.details
    return details.stage == "swap" and session.tables.columns(details.side_table) is None


def _fingerprint(session: Session, published: _Published, rows: int) -> str | None:
    """What `undo` needs to see changed cells; None where it could not take the rows out anyway."""
    note, marks = published.note, published.marks
    if marks is not None and session.rows.marks_changes:
        return None
    if published.hashed is not None:
        names = note.details.names
        found = session.digests.sum_as_fingerprint(note.table, names, published.hashed)
        if found is not None:
            return found
    if marks is None and session.rows.count(note.table) != rows:
        return None
    return fingerprint(session, note.table, marks)


def _told(back: ReadBack) -> list[str]:
    """What is not in the table as it was read, in words."""
    if not back.absent:
        return []
    shown = ", ".join(f"{name} {value!r}" for name, value in list(back.absent[0].items())[:4])
    return [
        f"{len(back.absent):,} of {plural(back.looked_for, 'row')} read back are not there as "
        "they were "
        f"read, for instance the one with {shown}: something in the target changes values"
    ]


def _marks(session: Session, note: LoadNote, results: Sequence[PartResult]) -> Marks | None:
    """What tells the load's rows in the table from others."""
    if note.details.side_table:
        return None
    if note.details.last_row is not None:
        return None if _busy(session, note) else rows_since(session, note)
    return joined(result.note.marks for result in results)


def rows_since(session: Session, note: LoadNote) -> Marks | None:
    """Marks of all rows after the last one from before, where rows are numbered as they come."""
    first, last = note.details.last_row, session.rows.last_mark(note.table)
    if first is None or last is None:
        return None
    return ((first + 1, last),) if last > first else ()


@dataclass(frozen=True)
class _Alone:
    """Where the load's rows can be looked at by themselves; without marks they are all there."""

    table: str
    marks: Marks | None = None


def _alone(session: Session, note: LoadNote, marks: Marks | None) -> _Alone | None:
    details = note.details
    if details.side_table:
        return _Alone(details.side_table)
    others = [
        one
        for one in session.notes.loads(note.table)
        if one.load_id != note.load_id and one.state in ("open", "done")
    ]
    kept = note.mode in ("append", "renew") and details.rows_before
    if not kept and not others:
        return _Alone(note.table)
    return None if marks is None else _Alone(note.table, marks)


def _held(
    session: Session,
    note: LoadNote,
    results: Sequence[PartResult],
    alone: _Alone | None,
    moved: bool = False,
) -> tuple[RowSum | None, tuple[str, ...]]:
    """The sum of the row hashes, where the load's rows in the table are those that were read by it.

    And what a person must know where it is another one; digests tell what differs then. `moved`
    says that the rows came there in the open transaction.
    """
    read = RowSum()
    for result in results:
        if result.row_sum is None or result.row_sum.rows != result.note.rows:
            return None, ()
        read = read.plus(result.row_sum)
    if alone is None or not results:
        return None, ()
    names = note.details.names
    there = session.digests.row_sum(alone.table, names, alone.marks, uncommitted=moved)
    return (read, ()) if there == read else (None, (ANOTHER_HASH,))


def _table_digests(
    session: Session, note: LoadNote, fields: Sequence[Field], alone: _Alone | None
) -> tuple[list[ColumnDigest], list[ColumnDigest]] | None:
    """Digests of the load's rows, or of all rows and those from before; None if neither will do."""
    details = note.details
    if alone is not None:
        return session.digests.of_columns(alone.table, fields, alone.marks), []
    if details.digests_before is None or details.text_sums != BYTES or _busy(session, note):
        return None
    return session.digests.of_columns(note.table, fields), list(details.digests_before)


def _busy(session: Session, note: LoadNote) -> bool:
    """Whether another load has brought rows since this one began, or may have."""
    return any(
        other.state == "open" or (other.state == "done" and other.started > note.started)
        for other in session.notes.loads(note.table)
        if other.load_id != note.load_id
    )


def _swap_in(session: Session, note: LoadNote, swapped: bool) -> LoadNote:
    details = note.details
    note = replace(note, details=details.with_(stage="swap"))
    session.notes.put_load(note)
    session.checkpoint()
    if not swapped:
        session.tables.swap(note.table, details.side_table, details.before)
    end_earlier(session, note)
    return note


def _move_over(session: Session, note: LoadNote, rows: int) -> Marks | None:
    """Moves a landing table's rows into the table in one set."""
    details = note.details
    if note.mode == "empty":
        clear(session, note)
    if note.mode == "renew":
        if details.before:
            session.tables.make_bare(note.table, details.before)
        merging_of(session).give_way(note.table, details.side_table)
    since = session.rows.last_mark(note.table)
    try:
        moved, marks = session.rows.copy(details.side_table, note.table, details.names)
    except RefusedError as refusal:
        session.rollback()
        raise MoveRefusedError(
            f"The rows of {details.side_table} cannot be moved into {note.table}: "
            f"{refusal.reason}; nothing was moved. Rows that clash with others are told apart "
            "where bad rows may be set aside: run the same command with --bad-rows set-aside.",
            refusal.reason,
        ) from None
    if moved != rows:
        session.rollback()
        raise OutsideError(
            f"The table {details.side_table} holds {plural(moved, 'row')} and {rows:,} were read "
            f"into it, so nothing was moved: `splarn undo {note.load_id}` takes the load back."
        )
    if since is not None:
        return rows_since(session, replace(note, details=details.with_(last_row=since)))
    return marks


def clean_up(session: Session, note: LoadNote, keep_old: bool) -> None:
    """Removes the tables that nothing needs any more, of this load and of those it ended."""
    session.claims.take_turn(note.table)
    kept = note.details.with_(side_table="", indexes=())
    if note.details.side_table:
        session.tables.drop(note.details.side_table)
    if kept.before and not keep_old:
        session.tables.drop(kept.before)
        kept = kept.with_(before="")
    session.notes.put_load(replace(note, details=kept))
    gone = dict(note.details.ended)
    for earlier in session.notes.loads(note.table):
        if earlier.load_id not in gone:
            continue
        for table in (earlier.details.side_table, earlier.details.before):
            if table:
                session.tables.drop(table)
        for name, statement in earlier.details.indexes:
            session.tables.restore_index(note.table, TableIndex(name, statement, False))
        bare = earlier.details.with_(side_table="", before="", indexes=())
        session.notes.put_load(replace(earlier, details=bare))
    session.commit()

"""The beginning of a load: gone on with or new, the table made ready, all of it noted first.

Each step may be done again: where a change of tables commits by itself, a kill between two steps is
followed by the same steps.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.load.arriving import other_than
from splarn.core.load.refusals import (
    Confirm,
    ContentInQuestionError,
    busy,
    named_as,
    refuse_differences,
    refuse_lost,
    refuse_name,
    refuse_same_content,
    refuse_what_is_there,
    unfinished_load,
)
from splarn.core.load.request import Input, LoadRequest
from splarn.core.load.standing import changes_since
from splarn.core.load.table import TableMatch, match_table, stored
from splarn.core.target.details import BYTES, LoadDetails
from splarn.core.target.names import schema_and_name, sibling
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.session import Session
from splarn.core.target.tables import Likeness, TableIndex

# Longer table names would be too long for some engine with what is added to them.
LONGEST_NAME = 44


@dataclass(frozen=True)
class Opened:
    """A load ready for its streams; `inputs` have the ids of its parts."""

    note: LoadNote
    parts: dict[str, PartNote]
    inputs: tuple[Input, ...]
    resumed: bool
    notes: tuple[str, ...] = ()
    done: bool = False

    @property
    def into(self) -> str:
        """The table that streams fill."""
        return self.note.details.side_table or self.note.table


def beside(table: str, what: str, load_id: str) -> str:
    """The name of a load's own table beside the one it loads."""
    bare = schema_and_name(table)[1]
    while len(bare.encode()) > LONGEST_NAME:
        bare = bare[:-1]
    return sibling(table, f"{bare}_{what}_{load_id[-4:]}")


def open_load(session: Session, request: LoadRequest, confirm: Confirm | None) -> Opened:
    """Settles the table and the load's notes; goes on with a load of the same content.

    Raises RequestError when the table does not fit, the content is in or another load unfinished,
    ContentInQuestionError when some inputs must be known whole first.
    """
    session.claims.take_turn(request.table)
    # Somebody may have made it meanwhile, under another spelling.
    request = replace(request, table=session.tables.canonical(request.table))
    refuse_name(session, request)
    refuse_lost(session, request)
    earlier = session.notes.loads(request.table)
    unfinished = [note for note in earlier if note.state == "open"]
    for note in unfinished:
        inputs = _same(session, request, note, certain=False)
        if inputs is not None:
            opened = _go_on(session, replace(request, inputs=inputs), note)
            session.claims.end_turn(request.table)
            return opened
    if done := _just_done(session, request, earlier):
        session.claims.end_turn(request.table)
        return done
    if request.table_mode not in ("empty", "replace"):
        # Those under way elsewhere do not stand in the way of rows that come to theirs.
        broken_off = [note for note in unfinished if session.claims.claim(note.load_id)]
        left = [note for note in broken_off if not is_void(session, note)]
        if left and not request.again:
            raise unfinished_load(session, left[-1], request.table)
        if not request.again:
            gone = {note.load_id for note in broken_off}
            there = [note for note in earlier if note.load_id not in gone]
            refuse_same_content(session, there, request.inputs)
    elif any(not session.claims.claim(note.load_id) for note in unfinished):
        raise busy(unfinished[-1].load_id, request.table)
    opened = _begin(session, request, earlier, confirm)
    session.claims.end_turn(request.table)
    return opened


def _same(
    session: Session, request: LoadRequest, note: LoadNote, certain: bool
) -> tuple[Input, ...] | None:
    """The inputs by the names that a load has noted, where it is of just these; None for another.

    Raises RequestError where it is of this run, and is to go on with something else.
    """
    if not request.run:
        parts = session.notes.parts([note.load_id])
        return None if note.details.run else named_as(parts, request.inputs, certain)
    if note.details.run != request.run:
        return None
    other = other_than(note, request.inputs, request.cut)
    if other and certain:
        return None
    if other:
        raise RequestError(
            f"The load {note.load_id} of this run is unfinished, and {other}: bring back what it "
            f"began with and run again, or take it back with `splarn undo {note.load_id}`."
        )
    contents = {name: content for name, content, _ in note.details.sources}
    doubtful = [one for one in request.inputs if one.content.same(contents[str(one.path)]) is None]
    if certain and doubtful and not all(one.content.whole for one in doubtful):
        raise ContentInQuestionError(doubtful)
    return request.inputs


def _go_on(session: Session, request: LoadRequest, note: LoadNote) -> Opened:
    if not session.claims.claim(note.load_id):
        raise busy(note.load_id, note.table)
    session.claims.await_batches(note.load_id)
    note = next(one for one in session.notes.loads(note.table) if one.load_id == note.load_id)
    if note.details.stage == "prepare":
        note = prepare(session, request, note)
    into = note.details.side_table or note.table
    if note.details.stage == "swap" and session.tables.columns(into) is None:
        into = note.table
    matched = match_table(session, into, stored(request.layout, note.details.names))
    if not matched.is_there:
        raise RequestError(
            f"The table {into} of the unfinished load {note.load_id} is gone: take the load back "
            f"with `splarn undo {note.load_id}` and load anew."
        )
    refuse_differences(matched, request, into)
    parts = session.notes.parts([note.load_id])
    if note.details.durability == "none" and matched.rows != sum(part.rows for part in parts):
        # The server was not shut down properly, and what skips the log is empty after that.
        session.rows.empty(into)
        for part in parts:
            session.notes.advance(part, _anew(part))
        parts = session.notes.parts([note.load_id])
    session.commit()
    ways = _kept_ways(request, note)
    return Opened(note, {part.part_id: part for part in parts}, request.inputs, True, ways)


def _anew(part: PartNote) -> PartNote:
    """The note of a part of which nothing is in any more."""
    return replace(part, state="open", position=0, rows=0, refused=0, marks=(), proof="")


def _kept_ways(request: LoadRequest, note: LoadNote) -> tuple[str, ...]:
    """What a load goes on with although something else is asked for now."""
    details = note.details
    asked = {
        "durability": (request.levers.durability, details.durability),
        "route": (request.levers.route, details.route),
        "columns": (request.columns or details.names, details.names),
        "table mode": (request.table_mode, note.mode),
    }
    kept = [
        f"{asked_for} {', '.join(was) if isinstance(was, tuple) else was}"
        for asked_for, (now, was) in asked.items()
        if set([now] if isinstance(now, str) else now)
        != set([was] if isinstance(was, str) else was)
    ]
    if not kept:
        return ()
    return (f"An unfinished load goes on the way it began: {'; '.join(kept)}.",)


def intended(
    request: LoadRequest, matched: TableMatch, load_id: str, gathers: bool = False
) -> LoadDetails:
    """What a new load is going to do with the table, decided from what is asked and what fits.

    Nothing is looked at and nothing written: the tables beside it are only named. The target
    `gathers` rows beside a table whatever the route.
    """
    levers, mode = request.levers, request.table_mode
    there = matched.is_there
    replaces = mode == "replace" and there
    removes = mode in ("empty", "replace", "renew") and bool(matched.rows)
    side_table = before = ""
    if replaces:
        side_table = beside(request.table, "next", load_id)
    elif levers.route == "landing" or gathers:
        side_table = beside(request.table, "landing", load_id)
    if replaces or (removes and request.keep_old):
        before = beside(request.table, "before", load_id)
    return LoadDetails(
        stage="prepare",
        made=not there,
        side_table=side_table,
        swaps=replaces,
        before=before,
        durability=levers.durability,
        route=levers.route,
        text_sums=BYTES,
        fields=stored(request.layout, matched.names).fields,
        rows_before=matched.rows or 0,
        **_coming(request),
    )


def _coming(request: LoadRequest) -> dict[str, Any]:
    """What is noted of what comes: the parts, or the files that they are going to be made of."""
    if not request.run:
        holds = tuple((one.part_id, one.holds) for one in request.inputs if one.holds)
        return {"part_count": len(request.inputs), "holds": holds}
    sources = tuple((str(one.path), one.content, one.source.size) for one in request.inputs)
    return {"run": request.run, "cut": request.cut, "sources": sources}


def _with_what_is_there(
    session: Session,
    request: LoadRequest,
    matched: TableMatch,
    details: LoadDetails,
    earlier: list[LoadNote],
) -> LoadDetails:
    """The same with what must be remembered of the table before anything in it changes."""
    mode = request.table_mode
    if request.levers.indexes == "rebuild" and matched.is_there and mode != "replace":
        dropped = [one for one in session.tables.indexes(request.table) if not one.unique]
        details = details.with_(indexes=tuple((one.name, one.statement) for one in dropped))
    unmarked = (
        mode == "append"
        and matched.rows
        and not session.rows.can_mark(request.table, matched.names)
    )
    # Asked anew: those that had brought nothing were ended meanwhile.
    alone = not any(note.state == "open" for note in session.notes.loads(request.table))
    if unmarked and alone and request.verify:
        before = session.digests.of_columns(request.table, details.fields)
        details = details.with_(digests_before=tuple(before))
    if mode in ("empty", "replace"):
        ended = [(one.load_id, one.state) for one in earlier if one.state in ("open", "done")]
        details = details.with_(ended=tuple(ended), touched=_touched(session, earlier))
    return details


def _begin(
    session: Session, request: LoadRequest, earlier: list[LoadNote], confirm: Confirm | None
) -> Opened:
    """Decides, looks, notes, and then makes the tables ready."""
    matched = match_table(session, request.table, request.layout, request.columns, request.numbers)
    refuse_what_is_there(session, matched, request, confirm)
    now = datetime.now(UTC)
    load_id = _new_id(session, now)
    details = intended(request, matched, load_id, request.open_engine().gathers)
    details = _with_what_is_there(session, request, matched, details, earlier)
    started = now.isoformat(timespec="milliseconds")
    note = LoadNote(load_id, request.table, "open", request.table_mode, started, details)
    session.notes.put_load(note)
    parts = {}
    for entry in () if request.run else request.inputs:
        part = PartNote(
            load_id, entry.part_id, entry.path.name, "open", 0, 0, 0, table=request.table,
            begins=entry.content.begins, whole=entry.content.whole,
        )  # fmt: skip
        parts[entry.part_id] = part
    session.notes.put_parts(list(parts.values()))
    session.checkpoint()
    if not session.claims.claim(load_id):
        raise busy(load_id, request.table)
    note = prepare(session, request, note)
    return Opened(note, parts, request.inputs, False, matched.notes)


def _new_id(session: Session, now: datetime) -> str:
    """An id that no load has: the second, and its fraction as 16 bits.

    Chance alone would give one out twice some day to loads that begin in the same second.
    """
    fraction = (now.microsecond << 16) // 1_000_000
    while True:
        load_id = f"{now:%Y%m%d-%H%M%S}-{fraction:04x}"
        if not session.notes.parts([load_id]):
            return load_id
        fraction = (fraction + 1) % (1 << 16)


def _touched(session: Session, earlier: Sequence[LoadNote]) -> bool:
    """Whether rows of earlier loads have lost their marks to a change."""
    for note in earlier:
        marks = note.details.marks
        if note.state == "done" and marks is not None and session.rows.marks_changes:
            rows = sum(part.rows for part in session.notes.parts([note.load_id]))
            if session.rows.count(note.table, marks) != rows:
                return True
    return False


def go_straight(session: Session, request: LoadRequest, opened: Opened, why: str) -> Opened:
    """Lets a load whose rows the target refuses in one set begin again, past its landing table.

    Its streams find the rows that are to blame and set them aside, as those of a straight load do.
    """
    note = opened.note
    session.claims.take_turn(note.table)
    details = note.details.with_(
        side_table="", route="straight", durability="full", stage="prepare"
    )
    note = replace(note, details=details)
    session.notes.put_load(note)
    for part in session.notes.parts([note.load_id]):
        session.notes.advance(part, _anew(part))
    session.commit()
    note = prepare(session, request, note)
    parts = {part.part_id: part for part in session.notes.parts([note.load_id])}
    # Nothing is left open that would keep the streams from writing.
    session.commit()
    session.claims.end_turn(note.table)
    told = (
        f"The target refused the rows when they were to be moved in one set ({why}), so they went "
        "straight into the table, and those to blame were set aside."
    )
    return replace(opened, note=note, parts=parts, notes=(*opened.notes, told))


def prepare(session: Session, request: LoadRequest, note: LoadNote) -> LoadNote:
    """Makes the tables of a load that is noted, and notes that its streams may begin."""
    details, table = note.details, note.table
    if not details.side_table:
        # Left by a landing table's rows that could not be moved.
        session.tables.drop(beside(table, "landing", note.load_id))
    layout = stored(request.layout, details.names)
    if session.tables.columns(table) is None:
        session.tables.create(table, layout)
    if details.side_table and session.tables.columns(details.side_table) is None:
        fits = not match_table(session, table, request.layout, details.names).differences
        if note.mode == "replace" and not fits:
            session.tables.create(details.side_table, layout)
        else:
            like = Likeness(logged=details.durability != "none", twin=details.swaps)
            session.tables.clone(table, details.side_table, like)
    if note.mode == "empty" and not details.side_table:
        clear(session, note)
    for name, statement in details.indexes:
        session.tables.drop_index(table, TableIndex(name, statement, False))
    others = [one for one in session.notes.loads(table) if one.load_id != note.load_id]
    if not details.side_table and not any(one.state == "open" for one in others):
        details = details.with_(last_row=session.rows.last_mark(table))
    note = replace(note, details=details.with_(stage="load"))
    session.notes.put_load(note)
    session.commit()
    return note


def clear(session: Session, note: LoadNote) -> None:
    """Removes the rows from before, keeping them in a table of their own where that is wanted."""
    if note.details.before:
        if session.tables.columns(note.details.before) is None:
            session.tables.make_bare(note.table, note.details.before)
        session.rows.copy(note.table, note.details.before)
    session.rows.empty(note.table)
    end_earlier(session, note)


def end_earlier(session: Session, note: LoadNote) -> None:
    """Notes that the rows of earlier loads are gone."""
    gone = dict(note.details.ended)
    for earlier in session.notes.loads(note.table):
        if earlier.load_id in gone:
            session.notes.put_load(replace(earlier, state="emptied"))


def is_void(session: Session, note: LoadNote) -> bool:
    """Whether a load that was broken off brought nothing in; it and its tables then go."""
    if note.details.before:
        return False
    if any(part.rows or part.refused for part in session.notes.parts([note.load_id])):
        return False
    if note.details.side_table:
        session.tables.drop(note.details.side_table)
    for name, statement in note.details.indexes:
        session.tables.restore_index(note.table, TableIndex(name, statement, False))
    ended = note.details.with_(stage="", side_table="", indexes=())
    session.notes.put_load(replace(note, state="undone", details=ended))
    return True


def _just_done(
    session: Session,
    request: LoadRequest,
    earlier: Sequence[LoadNote],
) -> Opened | None:
    """The load that has brought in just this content, by the same request, and is done.

    A command that was killed after its last commit is given again, and has nothing left to do.
    """
    if request.again:
        return None
    for note in reversed(earlier):
        if note.state not in ("open", "done"):
            continue
        parts = session.notes.parts([note.load_id])
        if note.state != "done":
            return None
        inputs = _same(session, request, note, certain=True)
        if inputs is None and request.run:
            # It goes by its name, whatever came after it.
            continue
        if inputs is None:
            return None
        removes = request.table_mode in ("empty", "replace")
        if removes and (note.mode != request.table_mode or changes_since(session, note, parts)):
            return None
        return Opened(note, {part.part_id: part for part in parts}, inputs, True, done=True)
    return None

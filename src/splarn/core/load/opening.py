"""The beginning of a load: gone on with or new, the table made ready, all of it noted first.

Each step may be done again: where a change of tables commits by itself, a kill between two steps is
followed by the same steps.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from splarn.core.details import LoadDetails
from splarn.core.engine import LoadNote, PartNote, Session, TableIndex
from splarn.core.errors import OutsideError, RequestError
from splarn.core.load.request import Input, LoadRequest
from splarn.core.load.table import Fit, fit_table, stored

# Asked with the rows in the table and the fewer ones to be loaded.
Confirm = Callable[[int, int], bool]
# Longer table names would be too long for some engine with what is added to them.
LONGEST_NAME = 44


@dataclass(frozen=True)
class Opened:
    """A load ready for its streams."""

    note: LoadNote
    parts: dict[str, PartNote]
    resumed: bool
    notes: tuple[str, ...] = ()

    @property
    def into(self) -> str:
        """The table that streams fill."""
        return self.note.details.aside or self.note.table


def beside(table: str, what: str, load_id: str) -> str:
    """The name of a load's own table beside the one it loads."""
    schema, dot, bare = table.rpartition(".")
    return f"{schema}{dot}{bare[:LONGEST_NAME]}_{what}_{load_id[-4:]}"


def open_load(session: Session, request: LoadRequest, confirm: Confirm | None) -> Opened:
    """Settles the table and the load's notes; goes on with a load of the same content.

    Raises RequestError when the table does not fit, the content is in or another load unfinished.
    """
    session.lock(request.table)
    wanted = {entry.content_id: entry for entry in request.inputs}
    earlier = session.loads(request.table)
    unfinished = [note for note in earlier if note.state == "open"]
    for note in unfinished:
        if {part.part_id for part in session.parts([note.load_id])} == set(wanted):
            opened = _go_on(session, request, note)
            session.release(request.table)
            return opened
    if request.table_mode not in ("empty", "replace"):
        # Those under way elsewhere do not stand in the way of rows that come to theirs.
        broken_off = [note for note in unfinished if session.claim(note.load_id)]
        left = [note for note in broken_off if not is_void(session, note)]
        if left and not request.again:
            raise _unfinished(session, left[-1], request.table)
        if not request.again:
            _refuse_same_content(session, earlier, wanted)
    elif any(not session.claim(note.load_id) for note in unfinished):
        raise _busy(unfinished[-1].load_id, request.table)
    opened = _begin(session, request, earlier, confirm)
    session.release(request.table)
    return opened


def _go_on(session: Session, request: LoadRequest, note: LoadNote) -> Opened:
    if not session.claim(note.load_id):
        raise _busy(note.load_id, note.table)
    session.settle(note.load_id)
    note = next(one for one in session.loads(note.table) if one.load_id == note.load_id)
    if note.details.stage == "prepare":
        note = prepare(session, request, note)
    into = note.details.aside or note.table
    if note.details.stage == "swap" and session.columns(into) is None:
        into = note.table
    fit = fit_table(session, into, stored(request.layout, note.details.names))
    if fit.rows is None:
        raise RequestError(
            f"The table {into} of the unfinished load {note.load_id} is gone: take the load back "
            f"with `splarn undo {note.load_id}` and load anew."
        )
    _refuse_differences(fit, request, into)
    parts = session.parts([note.load_id])
    if note.details.durability == "unlogged" and fit.rows != sum(part.rows for part in parts):
        # The server was not shut down properly, and what skips the log is empty after that.
        session.empty(into)
        for part in parts:
            begin = replace(part, state="open", position=0, rows=0, refused=0, marks=())
            session.advance(part, begin)
        parts = session.parts([note.load_id])
    session.commit()
    return Opened(note, {part.part_id: part for part in parts}, True, _kept_ways(request, note))


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
        f"{what} {', '.join(was) if isinstance(was, tuple) else was}"
        for what, (now, was) in asked.items()
        if set([now] if isinstance(now, str) else now)
        != set([was] if isinstance(was, str) else was)
    ]
    if not kept:
        return ()
    return (f"An unfinished load goes on the way it began: {'; '.join(kept)}.",)


def _begin(
    session: Session, request: LoadRequest, earlier: list[LoadNote], confirm: Confirm | None
) -> Opened:
    fit = fit_table(session, request.table, request.layout, request.columns, request.identity)
    _refuse_what_is_there(session, fit, request, confirm)
    levers, mode = request.levers, request.table_mode
    now = datetime.now(UTC)
    load_id = f"{now:%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"
    there = fit.rows is not None
    removes = mode in ("empty", "replace") and bool(fit.rows)
    details = LoadDetails(
        stage="prepare",
        made=not there,
        durability=levers.durability,
        route=levers.route,
        fields=stored(request.layout, fit.names).fields,
        rows_before=fit.rows or 0,
    )
    if mode == "replace" and there:
        details = details.with_(aside=beside(request.table, "next", load_id))
    elif levers.route == "landing":
        details = details.with_(aside=beside(request.table, "landing", load_id))
    if (mode == "replace" and there) or (removes and request.keep_before):
        details = details.with_(before=beside(request.table, "before", load_id))
    if levers.indexes == "rebuild" and there and mode != "replace":
        dropped = [one for one in session.indexes(request.table) if not one.unique]
        details = details.with_(indexes=tuple((one.name, one.statement) for one in dropped))
    unmarked = mode == "append" and fit.rows and not session.can_mark(request.table, fit.names)
    alone = not any(note.state == "open" for note in session.loads(request.table))
    if unmarked and alone and request.verify:
        before = session.digest(request.table, details.fields)
        details = details.with_(digests_before=tuple(before))
    if mode in ("empty", "replace"):
        ended = [(one.load_id, one.state) for one in earlier if one.state in ("open", "done")]
        details = details.with_(ended=tuple(ended))
    started = now.isoformat(timespec="milliseconds")
    note = LoadNote(load_id, request.table, "open", mode, started, details)
    session.note_load(note)
    parts = {}
    for entry in request.inputs:
        part = PartNote(load_id, entry.content_id, entry.path.name, "open", 0, 0, 0)
        session.note_part(part)
        parts[entry.content_id] = part
    session.checkpoint()
    if not session.claim(load_id):
        raise _busy(load_id, request.table)
    note = prepare(session, request, note)
    return Opened(note, parts, False, fit.notes)


def prepare(session: Session, request: LoadRequest, note: LoadNote) -> LoadNote:
    """Makes the tables of a load that is noted, and notes that its streams may begin."""
    details, table = note.details, note.table
    layout = stored(request.layout, details.names)
    if session.columns(table) is None:
        session.create(table, layout)
    if details.aside and session.columns(details.aside) is None:
        fits = not fit_table(session, table, request.layout, details.names).differences
        if note.mode == "replace" and not fits:
            session.create(details.aside, layout)
        else:
            logged = details.durability != "unlogged"
            session.clone(table, details.aside, logged=logged)
    if note.mode == "empty" and not details.aside:
        clear(session, note)
    for name, statement in details.indexes:
        session.drop_index(table, TableIndex(name, statement, False))
    others = [one for one in session.loads(table) if one.load_id != note.load_id]
    if not details.aside and not any(one.state == "open" for one in others):
        details = details.with_(last_row=session.last_mark(table))
    note = replace(note, details=details.with_(stage="load"))
    session.note_load(note)
    session.commit()
    return note


def clear(session: Session, note: LoadNote) -> None:
    """Removes the rows from before, keeping them in a table of their own where that is wanted."""
    if note.details.before:
        if session.columns(note.details.before) is None:
            session.shell(note.table, note.details.before)
        session.pour(note.table, note.details.before)
    session.empty(note.table)
    end_earlier(session, note)


def end_earlier(session: Session, note: LoadNote) -> None:
    """Notes that the rows of earlier loads are gone."""
    gone = dict(note.details.ended)
    for earlier in session.loads(note.table):
        if earlier.load_id in gone:
            session.note_load(replace(earlier, state="emptied"))


def is_void(session: Session, note: LoadNote) -> bool:
    """Whether a load that was broken off brought nothing in; it and its tables then go."""
    if note.details.before:
        return False
    if any(part.rows or part.refused for part in session.parts([note.load_id])):
        return False
    if note.details.aside:
        session.drop(note.details.aside)
    for name, statement in note.details.indexes:
        session.restore_index(note.table, TableIndex(name, statement, False))
    ended = note.details.with_(stage="", aside="", indexes=())
    session.note_load(replace(note, state="undone", details=ended))
    return True


def _refuse_what_is_there(
    session: Session, fit: Fit, request: LoadRequest, confirm: Confirm | None
) -> None:
    mode, table = request.table_mode, request.table
    if fit.rows is None:
        return
    if mode == "create" and fit.rows:
        raise RequestError(
            f"The table {table} is already there with {fit.rows:,} rows: give --table-mode append "
            "to add to it, empty to empty it first, or replace to put a new one in its place."
        )
    if mode != "replace":
        _refuse_differences(fit, request, table)
    elif ties := session.bound(table):
        raise RequestError(
            f"The table {table} cannot be replaced, since {'; '.join(ties)}: give --table-mode "
            "empty, which keeps the table and changes its rows."
        )
    if mode in ("empty", "replace") and fit.rows and confirm is not None:
        coming = rows_coming(request)
        if fit.rows > coming and not confirm(fit.rows, coming):
            raise RequestError(
                f"The table {table} holds {fit.rows:,} rows that --table-mode {mode} would remove, "
                f"and the load brings only {coming:,}: give --yes to agree."
            )


def rows_coming(request: LoadRequest) -> int:
    """Rows in the sources, counted where nothing tells them; those of a damaged one are none."""
    from splarn.core.survey.look import look_at

    total = 0
    for entry in request.inputs:
        if entry.rows is not None:
            total += entry.rows
        else:
            total += look_at(entry.path, request.layout.dialect, True).rows or 0
    return total


def _refuse_differences(fit: Fit, request: LoadRequest, table: str) -> None:
    if fit.differences:
        raise RequestError(
            f"The table {table} has other columns than the layout {request.layout.name!r}: "
            f"{'; '.join(fit.differences)}; change the layout, choose --columns, or load into "
            "another table."
        )


def _unfinished(session: Session, note: LoadNote, table: str) -> RequestError:
    names = [part.name for part in session.parts([note.load_id])]
    shown = ", ".join(names[:3]) + (" and others" if len(names) > 3 else "")
    return RequestError(
        f"The load {note.load_id} of {shown} into {table} is unfinished: run it again to its end, "
        f"or take it back with `splarn undo {note.load_id}`."
    )


def _busy(load_id: str, table: str) -> OutsideError:
    return OutsideError(
        f"The load {load_id} into {table} is being carried out by another Splarn at this moment: "
        "wait for it to end, or stop it first."
    )


def _refuse_same_content(
    session: Session, earlier: list[LoadNote], wanted: dict[str, Input]
) -> None:
    standing = {note.load_id: note for note in earlier if note.state in ("open", "done")}
    for part in session.parts(list(standing)):
        if part.part_id in wanted and part.state == "done":
            note = standing[part.load_id]
            raise RequestError(
                f"{wanted[part.part_id].path} is already in {note.table}: the load {note.load_id} "
                f"of {note.started[:19]} brought it in as {part.name}; give --again to load it "
                "twice."
            )

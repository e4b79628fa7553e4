"""What stands in the way of a load, each as a sentence that says what to do about it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime

from splarn.core.errors import OutsideError, RequestError
from splarn.core.load.request import Input, LoadRequest
from splarn.core.load.standing import can_tell, changed_since, changes_since
from splarn.core.load.table import TableMatch
from splarn.core.reading.counting import count_records
from splarn.core.source.content import Contents, Held
from splarn.core.target.merging import Merging
from splarn.core.target.names import schema_and_name
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.session import Session
from splarn.core.units import plural

# Asked with the rows in the table and the fewer ones to be loaded.
Confirm = Callable[[int, int], bool]


def refuse_what_is_there(
    session: Session, matched: TableMatch, request: LoadRequest, confirm: Confirm | None
) -> None:
    mode, table = request.table_mode, request.table
    if mode == "renew":
        merging = merging_of(session)
        if matched.is_there and not merging.layout(table).partition:
            raise RequestError(
                f"The table {table} has no partitions that --table-mode renew could put rows in "
                "the place of: give append or replace."
            )
    if not matched.is_there:
        return
    if mode == "create" and matched.rows:
        raise RequestError(
            f"The table {table} is already there with {plural(matched.rows, 'row')}: give "
            "--table-mode append "
            "to add to it, empty to empty it first, or replace to put a new one in its place."
        )
    if mode != "replace":
        refuse_differences(matched, request, table)
    elif ties := session.tables.ties(table):
        raise RequestError(
            f"The table {table} cannot be replaced, since {'; '.join(ties)}: give --table-mode "
            "empty, which keeps the table and changes its rows."
        )
    elif matched.differences and (indexes := session.tables.indexes(table)):
        raise RequestError(
            f"The table {table} cannot be replaced by one with other columns, since its index "
            f"{indexes[0].name} would not fit ({'; '.join(matched.differences)}): drop the index "
            "first."
        )
    if mode in ("empty", "replace") and matched.rows and confirm is not None:
        coming = rows_coming(request, matched.rows)
        if matched.rows > coming and not confirm(matched.rows, coming):
            raise RequestError(
                f"The table {table} holds {plural(matched.rows, 'row')} that --table-mode {mode} "
                "would remove, "
                f"and the load brings only {coming:,}: give --yes to agree."
            )


def refuse_to_renew(session: Session, note: LoadNote, coming: int, confirm: Confirm | None) -> None:
    """Raises RequestError where more rows would give way than come, and nobody agrees to that.

    The rows stay where they are, beside the table, so that the same command goes on.
    """
    if confirm is None or not note.details.side_table:
        return
    going = merging_of(session).in_the_way(note.table, note.details.side_table)
    if going > coming and not confirm(going, coming):
        raise RequestError(
            f"The partitions of {note.table} into which the {plural(coming, 'row')} of the load "
            f"come hold {going:,} that --table-mode renew would remove: give the same command with "
            f"--yes to agree, or `splarn undo {note.load_id}` to leave them."
        )


def merging_of(session: Session) -> Merging:
    """What a target has whose tables are files. Raises RequestError for another one."""
    if session.merging is None:
        raise RequestError(
            "--table-mode renew is for tables of files, whose partitions it puts anew: give "
            "append, empty or replace."
        )
    return session.merging


def rows_coming(request: LoadRequest, enough: int) -> int:
    """Rows in the sources, counted where nothing tells them; those of a damaged one are none.

    No more is read than it takes to know that there are enough.
    """
    total = sum(entry.rows or 0 for entry in request.inputs)
    for entry in request.inputs:
        if entry.rows is None and total < enough:
            with suppress(OutsideError):
                total += count_records(
                    entry.source, entry.layout or request.inputs_layout, enough - total
                )
    return total


def refuse_differences(matched: TableMatch, request: LoadRequest, table: str) -> None:
    if matched.differences:
        raise RequestError(
            f"The table {table} has other columns than the layout {request.layout.name!r}: "
            f"{'; '.join(matched.differences)}; change the layout, choose --columns, or load into "
            "another table."
        )


def unfinished_load(session: Session, note: LoadNote, table: str) -> RequestError:
    names = [part.name for part in session.notes.parts([note.load_id])]
    shown = ", ".join(names[:3]) + (" and others" if len(names) > 3 else "")
    return RequestError(
        f"The load {note.load_id} of {shown} into {table} is unfinished: run it again to its end, "
        f"or take it back with `splarn undo {note.load_id}`."
    )


def busy(load_id: str, table: str) -> OutsideError:
    return OutsideError(
        f"The load {load_id} into {table} is being carried out by another Splarn at this moment: "
        "wait for it to end, or stop it first."
    )


class ContentInQuestionError(Exception):
    """Whether these inputs are in can only be told when they are known whole."""

    def __init__(self, inputs: Iterable[Input]) -> None:
        super().__init__()
        self.part_ids = frozenset(one.part_id for one in inputs)


def named_as(
    parts: Sequence[PartNote], inputs: Sequence[Input], certain: bool
) -> tuple[Input, ...] | None:
    """Inputs with the ids of the parts that hold the same; None where they hold something else.

    Unless it must be certain, to begin with the same records is enough: what is read of an input is
    held against the note of its part.
    Raises ContentInQuestionError.
    """
    if len(parts) != len(inputs):
        return None
    wholes = {part.content.whole: part for part in parts if part.content.whole}
    begun: dict[str, list[PartNote]] = {}
    for part in parts:
        begun.setdefault(part.content.begins, []).append(part)
    named, doubtful = [], []
    for entry in inputs:
        content = entry.content
        near = [wholes[name] for name in content.names if name in wholes][:1]
        if not near:
            alike = (*begun.get(content.begins, ()), *(begun.get("", ()) if content.begins else ()))
            if not content.begins:
                alike = tuple(parts)
            near = [part for part in alike if content.same(part.content) is None]
            if not near:
                return None
            told = len(near) == 1 and near[0].content.begins == content.begins
            if certain or not told:
                doubtful.append(entry)
        named.append(replace(entry, part_id=near[0].part_id))
    if doubtful:
        if all(entry.content.whole and entry.content.begins for entry in doubtful):
            return None
        raise ContentInQuestionError(doubtful)
    return tuple(named) if len({one.part_id for one in named}) == len(parts) else None


def refuse_same_content(session: Session, earlier: list[LoadNote], inputs: Sequence[Input]) -> None:
    """Raises RequestError for content that is in, OutsideError for what is coming in right now.

    Content is known by its records, and parts by those of the files that they were made of.
    Raises ContentInQuestionError as well.
    """
    standing = {note.load_id: note for note in earlier if note.state in ("open", "done")}
    contents: Contents[PartNote] = Contents()
    for note in standing.values():
        for name, content, _ in note.details.sources:
            # All of the file is in by way of parts, or comes in.
            file = PartNote(note.load_id, content.name, name, note.state, 0, 0, 0,
                            begins=content.begins, whole=content.whole)  # fmt: skip
            contents.add((Held(content),), file)
    parts = session.notes.parts(list(standing))
    for part in parts:
        held = dict(standing[part.load_id].details.holds).get(part.part_id, ())
        contents.add((Held(part.content), *held), part)
    doubtful = []
    for entry in inputs:
        owner, certain = contents.owner(entry.contents)
        if owner is None:
            continue
        if not certain and not (entry.content.whole and entry.content.begins):
            doubtful.append(entry)
            continue
        note = standing[owner.load_id]
        if note.state == "open":
            raise OutsideError(
                f"{entry.path} {'holds' if certain else 'begins with'} records that the load "
                f"{note.load_id} is bringing into {note.table} at this moment as {owner.name}: "
                "wait for it to end, and load what is left then."
            )
        mine = [part for part in parts if part.load_id == note.load_id]
        if changes := changes_since(session, note, mine):
            raise changed_since(note, str(entry.path), changes[0])
        same = owner.content.same(entry.content)
        state = "is already in" if same else "holds records that are in"
        it = "it" if same else "them"
        # Where nothing tells rows apart, the notes alone say so.
        seen = can_tell(session, note, mine)
        by, unseen = ("", "") if seen else (
            " by its notes", ", and nothing tells those rows from others there"
        )  # fmt: skip
        raise RequestError(
            f"{entry.path} {state} {note.table}{by}: the load {note.load_id} of "
            f"{note.started[:19]} UTC brought {it} in as {owner.name}{unseen}; give --again to "
            f"load {it} twice."
        )
    if doubtful:
        raise ContentInQuestionError(doubtful)


def refuse_name(session: Session, request: LoadRequest) -> None:
    """Raises RequestError for names that the engine cannot have, and for what is no table."""
    most = session.tables.longest_name()
    for role, name in (
        ("table", schema_and_name(request.table)[1]),
        *(("field", name) for name in request.layout.names),
    ):
        if "\0" in name:
            raise RequestError(f"The {role} name {name!r} holds a NUL, which no target takes.")
        if most and len(name.encode() if most[1] == "bytes" else name) > most[0]:
            raise RequestError(
                f"The {role} name {name[:40]}… is longer than the {most[0]} {most[1]} that the "
                f"target takes: shorten it{' in the layout' if role == 'field' else ''}."
            )
        if against := session.tables.name_refusal(name):
            raise RequestError(
                f"The {role} name {name!r} {against}, which the target does not take: change it"
                f"{' in the layout' if role == 'field' else ''}."
            )
    kind = session.tables.kind(request.table)
    if kind not in ("", "table"):
        raise RequestError(
            f"{request.table} is {kind}, and a load needs a table of its own rows: name another."
        )


def refuse_lost(session: Session, request: LoadRequest) -> None:
    """Raises RequestError where notes were removed, so that nothing tells what is in the table."""
    noted = {note.load_id for note in session.notes.loads(request.table)}
    missed = {id_ for id_, table in request.begun if table == request.table} - noted
    if session.notes.are_whole(request.table) and not missed:
        return
    rows = (
        session.rows.count(request.table)
        if session.tables.columns(request.table) is not None
        else 0
    )
    if rows and request.table_mode in ("create", "append") and not request.again:
        raise RequestError(
            f"Notes of loads into {request.table} were removed from splarn_progress by somebody, "
            f"so nothing tells which of these rows are among the {rows:,} that are there: look "
            "into the table, and give --again to load all of them, or --table-mode empty to begin "
            "anew."
        )
    session.notes.renew(request.table)
    now = datetime.now(UTC).isoformat(timespec="milliseconds")
    for load_id in sorted(missed):
        # So that it is missed once, and not by every load to come.
        session.notes.put_load(LoadNote(load_id, request.table, "lost", request.table_mode, now))

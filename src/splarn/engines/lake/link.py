"""A session's open transaction with a lake: what it is going to change, and the commit of it."""

from __future__ import annotations

import json
import secrets
from collections.abc import Sequence
from multiprocessing import parent_process

from splarn.core.errors import OutsideError
from splarn.core.lake.columns import LakeColumn, schema_of
from splarn.core.lake.writing import PartitionedWriter
from splarn.core.layout import Layout
from splarn.core.layout.file_layout import FileLayout, check_columns
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.work.arrow import give_memory_back
from splarn.core.work.stages import stage
from splarn.engines.lake.book import (
    Book,
    PartEntry,
    Side,
    load_document,
    read_load,
)
from splarn.engines.lake.catalog import LOAD, LakeCatalog, LakeTable
from splarn.engines.lake.changes import Before, Change, TableFile, prefix_of
from splarn.engines.lake.storage import Storage

# What a part has written is noted when it is so much, so that a kill costs no more.
NOTED_BYTES = 1 << 30


class LakeLink:
    """The catalog, the files and the book of a lake, and changes that wait for a commit.

    A table is seen as it is with these changes.
    """

    def __init__(self, place: str, storage: Storage, catalog: LakeCatalog) -> None:
        self.place, self.storage, self.catalog = place, storage, catalog
        self.book = Book(storage)
        self.wanted: FileLayout | None = None
        self._sides: dict[str, Side | None] = {}
        self._made: dict[str, Side] = {}
        self.writing: PartitionedWriter | None = None
        # Parts by their ids: the last note of each here, and what the book has of it.
        self._notes: dict[str, PartNote] = {}
        self._entries: dict[str, PartEntry] = {}
        self.rollback()

    def rollback(self) -> None:
        """Forgets what was to be changed, and rows that are in no noted file."""
        self._changes: dict[str, Change] = {}
        self._unnoted: list[PartNote] = []
        self._new_sides: dict[str, Side] = {}
        self._gone_sides: list[str] = []
        self._read: dict[str, LakeTable | None] = {}
        self.let_go_of_rows()

    def let_go_of_rows(self) -> None:
        """Removes files that were begun and that nothing tells of."""
        if self.writing is not None:
            for path in self.writing.abandon():
                self.storage.remove(path)
            self.writing = None
        self._notes.clear()

    def close(self) -> None:
        """Ends the session."""
        self.rollback()
        self.catalog.close()

    def change(self, table: str) -> Change:
        """What is going to be done with a table."""
        return self._changes.setdefault(table, Change())

    def table(self, name: str) -> LakeTable | None:
        """A table as the catalog has it, looked for once a transaction."""
        if name not in self._read:
            self._read[name] = self.catalog.table(name)
        return self._read[name]

    def columns(self, name: str) -> tuple[LakeColumn, ...] | None:
        """The columns of a table, of rows beside one, or of one as it was."""
        side = self.side(name)
        if side is not None:
            return side.columns
        before = self.before(name)
        if before is not None:
            return self._columns_before(*before)
        change = self._changes.get(name)
        if change is not None and change.drop:
            return None
        if change is not None and change.anew is not None:
            return change.anew.columns
        found = self.table(name)
        if change is not None and change.back is not None and found is not None:
            return self._columns_before(found, change.back)
        if found is not None:
            return found.columns
        return change.create[0] if change is not None and change.create is not None else None

    def _columns_before(self, table: LakeTable, before: Before) -> tuple[LakeColumn, ...]:
        schema = table.found.schemas()[before.schema]
        return tuple(
            LakeColumn(one.name, str(one.field_type), one.field_id, one.required)
            for one in schema.fields
        )

    def layout(self, table: str) -> FileLayout:
        """How files of a table are laid out."""
        change = self._changes.get(table)
        if change is not None and change.create is not None:
            return change.create[1]
        found = self.table(table)
        return FileLayout() if found is None else found.layout

    def files(self, name: str) -> list[TableFile]:
        """The files of a table as they are after the open transaction, or of rows beside one."""
        side = self.side(name)
        if side is not None:
            files = [file for entry in self.book.entries(side.load_id).values()
                     for file in entry.files]  # fmt: skip
            return [TableFile(file) for file in files]
        before = self.before(name)
        if before is not None:
            return before[0].files(before[1].snapshot)
        change = self._changes.get(name, Change())
        found = self.table(name)
        if change.drop or found is None:
            return []
        there = found.files(found.snapshot if change.back is None else change.back.snapshot)
        if change.empties:
            there = []
        return [one for one in there if one.file.path not in change.remove] + change.add

    # Rows beside a table.

    def side(self, name: str) -> Side | None:
        """Rows beside a table, None where the name is of something else."""
        if name in self._gone_sides:
            return None
        if name in self._new_sides:
            return self._new_sides[name]
        if self._sides.get(name) is None:
            self._sides[name] = self.book.side(name)
        return self._sides[name]

    def begin_side(self, side: Side) -> None:
        """Rows of a load may come beside its table, with the next commit."""
        self._new_sides[side.name] = side

    def owner_of(self, side: str) -> LoadNote | None:
        """The load that has, or is going to have, rows beside its table by a name."""
        return next((one for one in self.loads(None) if one.details.side_table == side), None)

    def folder(self, table: str) -> str:
        """Where a table's files lie, or are going to."""
        found, change = self.table(table), self._changes.get(table)
        if found is not None:
            return found.folder
        assert change is not None, "the table is going to be made"
        return f"{change.location}/data"

    def drop_side(self, name: str) -> None:
        """Rows beside a table are not wanted, or have come in."""
        side = self.side(name)
        if side is not None:
            self._gone_sides.append(name)

    def write_into(self, name: str) -> tuple[PartitionedWriter, Side]:
        """What writes rows beside a table."""
        side = self.side(name)
        if side is None:
            raise OutsideError(f"There is no {name} in {self.place} that rows could go to.")
        if self.writing is None:
            if parent_process() is not None:
                # One of Splarn's own.
                give_memory_back()
            self.writing = PartitionedWriter(
                self.storage.create, side.folder, schema_of(side.columns), side.layout,
                prefix_of(side.number), self.storage.scratch,
            )  # fmt: skip
        return self.writing, side

    # Tables as they were.

    def before(self, name: str) -> tuple[LakeTable, Before] | None:
        """A table as it was, by the name that a load gave to that."""
        for table, change in self._changes.items():
            found = self.table(table)
            if name in change.keep and found is not None:
                schema = found.found.schema().schema_id
                rows = sum(one.file.rows for one in found.files(found.snapshot))
                return found, Before(found.snapshot, schema, found.spec, rows)
        if "_before_" not in name:
            return None
        start = name.rpartition("_before_")[0]
        for table in sorted({one for one in self._ids().values() if one.startswith(start)}):
            found = self.table(table)
            kept = None if found is None else found.before(name)
            if found is not None and kept is not None:
                if name in self.change(table).let_go:
                    return None
                return found, kept
        return None

    def _ids(self) -> dict[str, str]:
        """All loads that were ever begun, with their tables."""
        waiting = {note.load_id: note.table for change in self._changes.values()
                   for note in change.notes.values()}  # fmt: skip
        return {**self.book.ids(), **waiting}

    # Notes.

    def loads(self, table: str | None) -> list[LoadNote]:
        """Loads noted for a table or for all, oldest first."""
        names = {table} if table is not None else set(self._ids().values())
        found: dict[str, LoadNote] = {}
        for document in self.book.gone():
            if table in (None, document["table"]):
                found[document["load_id"]] = read_load(document)
        for name in names:
            for document in self._documents(name).values():
                found[document["load_id"]] = read_load(document)
            if name in self._changes:
                found |= self._changes[name].notes
                found = {k: v for k, v in found.items() if k not in self._changes[name].forgotten}
        return sorted(found.values(), key=lambda note: (note.started, note.load_id))

    def _documents(self, table: str) -> dict[str, dict[str, str]]:
        found = self.table(table)
        if found is None:
            return {}
        kept = {key.removeprefix(LOAD): value for key, value in found.properties.items()
                if key.startswith(LOAD)}  # fmt: skip
        return {load_id: self._document(value) for load_id, value in kept.items()}

    def _document(self, value: str) -> dict[str, str]:
        if value.startswith("{"):
            return dict(json.loads(value))
        data = self.storage.read(f"{self.book.root}/loads/{value}")
        if data is None:
            raise OutsideError(
                f"The notes of a load in {self.place} are gone ({value}): somebody removed them."
            )
        return dict(json.loads(data))

    def parts_name(self, table: str, load_id: str) -> str:
        """Where the notes of a load's parts are kept for good; empty before it is done."""
        found = self._documents(table).get(load_id)
        if found is not None:
            return found["parts"]
        gone = [one for one in self.book.gone() if one["load_id"] == load_id]
        return str(gone[0]["parts"]) if gone else ""

    def forget(self, table: str, load_id: str) -> None:
        """Removes the notes of a load."""
        change = self.change(table)
        change.notes.pop(load_id, None)
        change.forgotten.add(load_id)

    def note_part(self, note: PartNote) -> None:
        """Notes how far a part is, with the next commit."""
        self._unnoted = [one for one in self._unnoted if one.part_id != note.part_id]
        self._unnoted.append(note)

    def known(self, note: PartNote) -> PartNote | None:
        """The last note of a part, by this session or by the book."""
        if note.part_id in self._notes:
            return self._notes[note.part_id]
        entry = self.book.entry(note)
        if entry is not None:
            self._entries[note.part_id] = entry
            return entry.note
        return None

    def follow(self, note: PartNote) -> PartNote | None:
        """The last note of a part by whoever was at it; this session notes it beside theirs."""
        entry = self.book.follow(note)
        if entry is None:
            return None
        self._entries[note.part_id], self._notes[note.part_id] = entry, entry.note
        return entry.note

    # Commits.

    def commit(self) -> None:
        """Carries out what waits."""
        self._commit_parts()
        # Before the note that lets rows go there.
        for side in self._new_sides.values():
            self.book.put_side(side)
        for table, change in list(self._changes.items()):
            self._commit_table(table, change)
        self._changes, self._read, self._new_sides = {}, {}, {}
        for name in self._gone_sides:
            self._forget_side(name)
        self._gone_sides, self._sides = [], {}

    def _commit_parts(self) -> None:
        begun: dict[str, list[PartNote]] = {}
        for note in self._unnoted:
            if note.state == "open" and not note.position and not note.rows and not note.refused:
                begun.setdefault(note.load_id, []).append(note)
                continue
            self._notes[note.part_id] = note
            writing = self.writing
            waits = writing is not None and note.state == "open" and writing.written < NOTED_BYTES
            if waits:
                continue
            earlier = self._entries.get(note.part_id)
            files = () if earlier is None else earlier.files
            if writing is not None:
                with stage("encode"):
                    written = writing.close()
                with stage("sync"):
                    self.storage.settle(one.path for one in written)
                files = (*files, *written)
                writing.written = 0
            entry = PartEntry(note, files)
            self.book.put_entry(entry)
            self._entries[note.part_id] = entry
        for load_id, notes in begun.items():
            self.book.begun(load_id, notes)
        self._unnoted = []

    def _commit_table(self, table: str, change: Change) -> None:
        done: list[str] = []
        known = self.book.ids() if change.notes else {}
        for note in change.notes.values():
            if note.load_id not in known:
                self.book.put_id(note.load_id, note.table)
            parts = self.parts_name(table, note.load_id)
            if not parts and note.state == "done":
                entries = self.book.entries(note.load_id)
                parts = self.book.put_parts(note.load_id, [one.note for one in entries.values()])
                done.append(note.load_id)
            document = load_document(note, parts)
            found = self.table(table)
            key = LOAD + note.load_id
            change.seen[key] = None if found is None else found.properties.get(key)
            if change.drop:
                self.book.put_gone(note.load_id, document)
            else:
                change.properties[key] = self._kept(note.load_id, document)
        if change.drop:
            for load_id, document in self._documents(table).items():
                if load_id not in change.notes and load_id not in change.forgotten:
                    self.book.put_gone(load_id, document)
        if self.table(table) is None and change.create is None and not change.drop:
            for load_id in change.forgotten:
                self.book.forget(load_id, table)
            # Notes of a table that is gone.
            for note in change.notes.values():
                parts = self.parts_name(table, note.load_id)
                self.book.put_gone(note.load_id, load_document(note, parts))
            return
        if change.files_change:
            change.summary |= _summary(change)
        self.catalog.commit(table, change)
        for load_id in done:
            self.book.close(load_id)
        for load_id in change.forgotten:
            self.book.forget(load_id, table)

    def _kept(self, load_id: str, document: dict[str, object]) -> str:
        """A load's note as the table's properties have it: a long one by the name of a file."""
        text = json.dumps(document, ensure_ascii=False, separators=(",", ":"))
        if len(text) <= 1 << 14:
            return text
        name = f"{load_id}-note-{secrets.token_hex(6)}.json"
        self.storage.write(f"{self.book.root}/loads/{name}", text.encode())
        return name

    def _forget_side(self, name: str) -> None:
        side = self.book.side(name)
        if side is None:
            return
        if not self.parts_name(side.table, side.load_id):
            # Its rows never came in.
            for file in self.book.files(side.load_id):
                self.storage.remove(file.path)
        self.book.close(side.load_id)
        self.book.drop_side(name)

    def notes_of(self, load_ids: Sequence[str]) -> list[PartNote]:
        """Notes of the parts of some loads."""
        found: list[PartNote] = []
        waiting = {one.part_id: one for one in self._unnoted}
        tables = self._ids() if load_ids else {}
        for load_id in load_ids:
            table = tables.get(load_id)
            name = self.parts_name(table, load_id) if table is not None else ""
            if name:
                found += self.book.parts(name)
                continue
            entries = {key: one.note for key, one in self.book.entries(load_id).items()}
            mine = {key: one for key, one in waiting.items() if one.load_id == load_id}
            found += [*(entries | mine).values()]
        return found

    def check_wanted(self, layout: Layout) -> FileLayout:
        """The layout of files for a new table. Raises RequestError where it does not fit."""
        wanted = self.wanted or FileLayout()
        check_columns(wanted, layout.fields)
        return wanted


def _summary(change: Change) -> dict[str, str]:
    """What a state of a table says of how it came to be."""
    if not change.notes:
        return {"splarn.what": "compacted"}
    done = [one.load_id for one in change.notes.values() if one.state == "done"]
    undone = [one.load_id for one in change.notes.values() if one.state == "undone"]
    what = "taken back" if undone else "loaded"
    return {"splarn.what": what, "splarn.loads": ",".join(sorted(undone or done))}

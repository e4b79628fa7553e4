"""The notes that a target keeps of its loads, in a table of its own beside the rows."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.schema import CreateTable

from splarn.core.details import LoadDetails
from splarn.core.engine import LoadNote, PartNote
from splarn.core.errors import OutsideError
from splarn.core.marks import marks_text, read_marks
from splarn.core.names import join_name, schema_and_name
from splarn.engines.connected import Connected

NOTES = "splarn_progress"
_LONG = sa.Text().with_variant(mysql.LONGTEXT(), "mysql")


@lru_cache(maxsize=64)
def notes_table(schema: str | None) -> sa.Table:
    """One row a load (with an empty part_id), one a part of it, and one that shows them whole.

    That last row, the anchor, has neither id: where it is missing, somebody has emptied the notes.
    """
    return sa.Table(
        NOTES,
        sa.MetaData(),
        sa.Column("load_id", sa.String(40), primary_key=True),
        sa.Column("part_id", sa.String(80), primary_key=True),
        sa.Column("table_name", sa.String(200), nullable=False),
        sa.Column("name", sa.String(500), nullable=False),
        sa.Column("state", sa.String(10), nullable=False),
        sa.Column("mode", sa.String(10), nullable=False),
        sa.Column("started", sa.String(40), nullable=False),
        sa.Column("position", sa.BigInteger, nullable=False),
        sa.Column("rows_in", sa.BigInteger, nullable=False),
        sa.Column("rows_refused", sa.BigInteger, nullable=False),
        # Of a load its details as JSON, of a part its marks and the proof of its position.
        sa.Column("details", _LONG),
        schema=schema,
    )


class NotesSession(Connected, ABC):
    """Reading and writing of notes, which lie in the schema of the table that they are about."""

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self._notes_made: set[str | None] = set()

    @abstractmethod
    def canonical(self, table: str) -> str:
        """See Session."""

    def lock(self, table: str) -> None:
        """See Session. Where one process alone may open the target there is nobody to wait for."""

    def claim(self, load_id: str) -> bool:
        """See Session."""
        return True

    def settle(self, load_id: str) -> None:
        """See Session. Embedded targets have no one else's open transactions."""

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """See Session."""
        if table is None:
            return [note for schema in self.note_schemas() for note in self._loads(schema, None)]
        one = self.canonical(table)
        return self._loads(schema_and_name(one)[0], one)

    def _loads(self, schema: str | None, table: str | None) -> list[LoadNote]:
        if not self._has_notes(schema):
            return []
        notes = notes_table(schema)
        query = sa.select(notes).where(notes.c.part_id == "", notes.c.load_id != "")
        with self.failing("Reading the notes of", table or self.engine.place):
            rows = self.connection.execute(query.order_by(notes.c.started, notes.c.load_id))
            found = [
                LoadNote(
                    row.load_id,
                    row.table_name,
                    row.state,
                    row.mode,
                    row.started,
                    LoadDetails.read(row.details),
                )
                for row in rows
            ]
        if table is None:
            return found
        # An earlier Splarn noted names as they were given.
        names = {name: self.canonical(name) for name in {note.table for note in found}}
        return [replace(note, table=table) for note in found if names[note.table] == table]

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Session."""
        if not load_ids:
            return []
        found = []
        for schema in self.note_schemas():
            if not self._has_notes(schema):
                continue
            notes = notes_table(schema)
            query = sa.select(notes).where(notes.c.load_id.in_(load_ids), notes.c.part_id != "")
            with self.failing("Reading the notes of", "earlier loads"):
                found += [
                    PartNote(
                        row.load_id,
                        row.part_id,
                        row.name,
                        row.state,
                        row.position,
                        row.rows_in,
                        row.rows_refused,
                        read_marks((row.details or "").partition("|")[0]),
                        row.table_name or join_name(schema, NOTES),
                        (row.details or "").partition("|")[2],
                    )
                    for row in self.connection.execute(query)
                ]
        return found

    def note_load(self, note: LoadNote) -> None:
        """See Session."""
        table = self.canonical(note.table)
        schema = schema_and_name(table)[0]
        with self.failing("Noting a load into", note.table):
            self._make_notes(schema)
            notes = notes_table(schema)
            changed = self.connection.execute(
                notes.update()
                .where(notes.c.load_id == note.load_id, notes.c.part_id == "")
                .values(state=note.state, details=note.details.text())
            )
            if not changed.rowcount:
                self._insert(
                    schema,
                    load_id=note.load_id,
                    table_name=table,
                    state=note.state,
                    mode=note.mode,
                    started=note.started,
                    details=note.details.text(),
                )

    def note_part(self, note: PartNote) -> None:
        """See Session."""
        with self.failing("Noting the part", note.name):
            table = self.canonical(note.table)
            self._insert(
                schema_and_name(table)[0],
                load_id=note.load_id,
                part_id=note.part_id,
                table_name=table,
                name=note.name[:500],
                state=note.state,
            )

    def _insert(self, schema: str | None, **values: Any) -> None:
        empty = dict.fromkeys(
            ("load_id", "part_id", "table_name", "name", "state", "mode", "started", "details"), ""
        )
        figures = dict.fromkeys(("position", "rows_in", "rows_refused"), 0)
        self.connection.execute(notes_table(schema).insert().values({**empty, **figures, **values}))

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Session."""
        notes = notes_table(schema_and_name(was.table)[0])
        mine = (notes.c.load_id == was.load_id, notes.c.part_id == was.part_id)
        with self.failing("Noting the progress of", now.name):
            changed = self.connection.execute(
                notes.update()
                .where(*mine, notes.c.state == was.state, notes.c.position == was.position)
                .values(
                    state=now.state,
                    position=now.position,
                    rows_in=now.rows,
                    rows_refused=now.refused,
                    details=f"{marks_text(now.marks)}|{now.proof}",
                )
            )
            if changed.rowcount == 1:
                return
            there = self.connection.execute(sa.select(notes.c.state).where(*mine)).fetchall()
        if there:
            raise OutsideError(
                f"Another loader is at work on {now.name} in {self.engine.place}: this one stopped "
                "before its batch was committed; wait for the other to end."
            )
        raise OutsideError(
            f"The note of {now.name} is gone from {NOTES} in {self.engine.place}: somebody removed "
            "it, or took the load back, so this one stopped before its batch was committed."
        )

    def forget(self, table: str) -> None:
        """See Session."""
        one = self.canonical(table)
        schema = schema_and_name(one)[0]
        if self._has_notes(schema):
            notes = notes_table(schema)
            with self.failing("Removing the notes of", table):
                loads = [note.load_id for note in self._loads(schema, one)]
                self.connection.execute(notes.delete().where(notes.c.load_id.in_(loads)))

    def notes_whole(self, table: str) -> bool:
        """See Session."""
        one = self.canonical(table)
        schema = schema_and_name(one)[0]
        if not self._has_notes(schema):
            return True
        notes = notes_table(schema)
        with self.failing("Reading the notes of", table):
            anchor = sa.select(notes.c.state).where(notes.c.load_id == "", notes.c.part_id == "")
            if not self.connection.execute(anchor).fetchall():
                # An earlier Splarn made no anchor; its notes show that they are there.
                some = self.connection.execute(sa.select(notes.c.state).limit(1)).fetchall()
                if not some:
                    return False
                self._insert(schema)
            parts = sa.select(notes.c.load_id).where(
                notes.c.table_name == one, notes.c.part_id != ""
            )
            loads = sa.select(notes.c.load_id).where(notes.c.part_id == "")
            orphans = parts.where(notes.c.load_id.not_in(loads)).limit(1)
            if self.connection.execute(orphans).fetchall():
                return False
        counts = {note.load_id: note.details.part_count for note in self._loads(schema, one)}
        for part in self.parts(list(counts)):
            counts[part.load_id] -= 1
        return all(count <= 0 for count in counts.values())

    def renew_notes(self, table: str) -> None:
        """See Session."""
        one = self.canonical(table)
        schema = schema_and_name(one)[0]
        if self.notes_whole(table):
            return
        notes = notes_table(schema)
        with self.failing("Renewing the notes of", table):
            known = sa.select(notes.c.load_id).where(notes.c.part_id == "")
            lost = self.connection.execute(
                sa.select(notes.c.load_id)
                .where(notes.c.table_name == one, notes.c.load_id.not_in(known))
                .distinct()
            ).fetchall()
            self.connection.execute(
                notes.delete().where(notes.c.load_id.in_([row[0] for row in lost]))
            )
            if not self.connection.execute(
                sa.select(notes.c.state).where(notes.c.load_id == "")
            ).fetchall():
                self._insert(schema)
        for note in self._loads(schema, one):
            if note.details.part_count > len(self.parts([note.load_id])):
                bare = note.details.with_(part_count=0, stage="")
                self.note_load(replace(note, state="lost", details=bare))

    def rollback(self) -> None:
        """See Session. What was made in the transaction is gone."""
        self._notes_made.clear()
        super().rollback()

    def _lock_notes(self, schema: str | None) -> None:
        """Lets nobody else make the notes of a schema until the end of the transaction."""

    def _make_notes(self, schema: str | None) -> None:
        if self._has_notes(schema):
            return
        self._lock_notes(schema)
        if self._has_notes(schema):
            return
        self.connection.execute(CreateTable(notes_table(schema), if_not_exists=True))
        self._notes_made.add(schema)
        self._insert(schema)

    def _has_notes(self, schema: str | None) -> bool:
        if schema not in self._notes_made:
            columns = self._note_columns(schema)
            if columns and "details" not in columns:
                # Written by the first Splarn, which kept no details.
                with self.failing("Extending", NOTES):
                    kind = _LONG.compile(dialect=self.connection.dialect)
                    where = self.quoted(join_name(schema, NOTES))
                    self.run(f"ALTER TABLE {where} ADD COLUMN details {kind}")
            if columns:
                self._notes_made.add(schema)
        return schema in self._notes_made

    def note_schemas(self) -> list[str | None]:
        """The schemas of this target in which there are notes."""
        return [None] if self._has_notes(None) else []

    def _note_columns(self, schema: str | None) -> set[str]:
        found = sa.inspect(self.connection)
        if not found.has_table(NOTES, schema=schema):
            return set()
        return {column["name"] for column in found.get_columns(NOTES, schema=schema)}

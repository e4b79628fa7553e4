"""The notes that a target keeps of its loads, in a table of its own beside the rows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.schema import CreateTable

from splarn.core.errors import OutsideError, OvertakenError
from splarn.core.target.details import LoadDetails
from splarn.core.target.marks import marks_text, read_marks
from splarn.core.target.names import join_name, schema_and_name, split_name
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.tables import Tables
from splarn.engines.sql.link import Answer, Concern, Link

NOTES = "splarn_progress"
# Parts that one statement notes.
AT_ONCE = 100


class _LongText(sa.types.UserDefinedType[str]):
    """MariaDB's own name for text of any length; its dialect is imported only where it is used."""

    cache_ok = True

    def get_col_spec(self, **_: Any) -> str:
        """See UserDefinedType."""
        return "LONGTEXT"


_LONG = sa.Text().with_variant(_LongText(), "mysql")


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
        # Of a load its details as JSON, of a part its marks, the proof of its position and content.
        sa.Column("details", _LONG),
        schema=schema,
    )


class SqlNotes(Concern):
    """Reading and writing of notes, which lie in the schema of the table that they are about."""

    def __init__(self, link: Link, tables: Tables) -> None:
        super().__init__(link)
        self.tables = tables
        self._notes_made: set[str | None] = set()
        # What was made in a transaction is gone with it.
        link.before_rollback.append(self._notes_made.clear)

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """See Notes."""
        if table is None:
            return [note for schema in self.note_schemas() for note in self._loads(schema, None)]
        one = self.tables.canonical(table)
        return self._loads(schema_and_name(one)[0], one)

    def _loads(self, schema: str | None, table: str | None) -> list[LoadNote]:
        if not self._has_notes(schema):
            return []
        notes = notes_table(schema)
        query = sa.select(notes).where(notes.c.part_id == "", notes.c.load_id != "")
        names = None if table is None else self._spellings(notes, table)
        if names is not None:
            query = query.where(notes.c.table_name.in_(names))
        with self.link.failing("Reading the notes of", table or self.link.place):
            rows = self.link.execute(query.order_by(notes.c.started, notes.c.load_id))
            return [
                LoadNote(
                    load_id=row["load_id"],
                    table=table or row["table_name"],
                    state=row["state"],
                    mode=row["mode"],
                    started=row["started"],
                    details=LoadDetails.read(row["details"]),
                )
                for row in rows.named()
                # Some engines compare without a look at capitals.
                if names is None or row["table_name"] in names
            ]

    def _spellings(self, notes: sa.Table, table: str) -> list[str]:
        """The names that a table's loads are noted by: an earlier Splarn noted them as given.

        The engine is asked for no more than the names that could be another spelling, since its
        other tables may be many.
        """
        bare = split_name(table)[-1].casefold()
        query = sa.select(notes.c.table_name).where(notes.c.part_id == "", notes.c.load_id != "")
        with self.link.failing("Reading the notes of", table):
            noted = [name for (name,) in self.link.execute(query.distinct()).rows]
        alike = (name for name in noted if split_name(name)[-1].casefold() == bare)
        others = (name for name in alike if name != table)
        return [table, *(name for name in others if self.tables.canonical(name) == table)]

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Notes."""
        if not load_ids:
            return []
        return [
            note
            for schema in self.note_schemas()
            for note in self._parts(schema, "earlier loads", lambda of: of.load_id.in_(load_ids))
        ]

    def part(self, was: PartNote) -> PartNote | None:
        """See Notes."""
        schema = schema_and_name(self.tables.canonical(was.table))[0]
        found = self._parts(
            schema, was.name,
            lambda of: sa.and_(of.load_id == was.load_id, of.part_id == was.part_id),
        )  # fmt: skip
        return found[0] if found else None

    def _parts(self, schema: str | None, what: str, which: Callable[[Any], Any]) -> list[PartNote]:
        if not self._has_notes(schema):
            return []
        notes = notes_table(schema)
        query = sa.select(notes).where(which(notes.c), notes.c.part_id != "")
        with self.link.failing("Reading the notes of", what):
            return [
                PartNote(
                    load_id=row["load_id"],
                    part_id=row["part_id"],
                    name=row["name"],
                    state=row["state"],
                    position=row["position"],
                    rows=row["rows_in"],
                    refused=row["rows_refused"],
                    table=row["table_name"] or join_name(schema, NOTES),
                    **_read_details(row["details"] or ""),
                )
                for row in self.link.execute(query).named()
            ]

    def put_load(self, note: LoadNote) -> None:
        """See Notes."""
        table = self.tables.canonical(note.table)
        schema = schema_and_name(table)[0]
        with self.link.failing("Noting a load into", note.table):
            self._make_notes(schema)
            notes = notes_table(schema)
            changed = self.link.execute(
                notes.update()
                .where(notes.c.load_id == note.load_id, notes.c.part_id == "")
                .values(state=note.state, details=note.details.text())
            )
            if not changed.changed:
                self._insert_load(schema, table, note)

    def _insert_load(self, schema: str | None, table: str, note: LoadNote) -> None:
        self._insert(schema, {
            "load_id": note.load_id, "table_name": table, "state": note.state, "mode": note.mode,
            "started": note.started, "details": note.details.text(),
        })  # fmt: skip

    def put_parts(self, parts: Sequence[PartNote]) -> None:
        """See Notes."""
        for first in range(0, len(parts), AT_ONCE):
            some = parts[first : first + AT_ONCE]
            table = self.tables.canonical(some[0].table)
            with self.link.failing("Noting the part", some[0].name):
                self._insert(schema_and_name(table)[0], *(
                    {
                        "load_id": note.load_id, "part_id": note.part_id, "table_name": table,
                        "name": note.name[:500], "state": note.state, "position": note.position,
                        "rows_in": note.rows, "rows_refused": note.refused,
                        "details": _details(note),
                    }
                    for note in some
                ))  # fmt: skip

    def _insert(self, schema: str | None, *rows: dict[str, Any]) -> None:
        """Adds rows, or the anchor if none is given."""
        empty = dict.fromkeys(
            ("load_id", "part_id", "table_name", "name", "state", "mode", "started", "details"), ""
        )
        figures = dict.fromkeys(("position", "rows_in", "rows_refused"), 0)
        told = [{**empty, **figures, **row} for row in rows or ({},)]
        insert = notes_table(schema).insert()
        if len(told) > 1 and self.link.dialect.supports_multivalues_insert:
            self.link.execute(insert.values(told))
            return
        for row in told:
            self.link.execute(insert.values(row))

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Notes."""
        notes = notes_table(schema_and_name(was.table)[0])
        mine = (notes.c.load_id == was.load_id, notes.c.part_id == was.part_id)
        with self.link.failing("Noting the progress of", now.name):
            changed = self.link.execute(
                notes.update()
                .where(*mine, notes.c.state == was.state, notes.c.position == was.position)
                .values(
                    state=now.state,
                    position=now.position,
                    rows_in=now.rows,
                    rows_refused=now.refused,
                    details=_details(now),
                )
            )
            if self._moved_on(changed, now):
                return
            there = self.link.execute(sa.select(notes.c.state).where(*mine)).rows
        if there:
            raise OvertakenError(
                f"Another loader is at work on {now.name} in {self.link.place}: this one stopped "
                "before its batch was committed; wait for the other to end."
            )
        raise OutsideError(
            f"The note of {now.name} is gone from {NOTES} in {self.link.place}: somebody removed "
            "it, or took the load back, so this one stopped before its batch was committed."
        )

    def _moved_on(self, changed: Answer, now: PartNote) -> bool:
        """Whether an update found the note as it was, and moved it on."""
        return changed.changed == 1

    def forget(self, table: str) -> None:
        """See Notes."""
        one = self.tables.canonical(table)
        schema = schema_and_name(one)[0]
        if self._has_notes(schema):
            notes = notes_table(schema)
            with self.link.failing("Removing the notes of", table):
                loads = [note.load_id for note in self._loads(schema, one)]
                self.link.execute(notes.delete().where(notes.c.load_id.in_(loads)))

    def are_whole(self, table: str) -> bool:
        """See Notes."""
        one = self.tables.canonical(table)
        schema = schema_and_name(one)[0]
        if not self._has_notes(schema):
            return True
        notes = notes_table(schema)
        with self.link.failing("Reading the notes of", table):
            anchor = sa.select(notes.c.state).where(notes.c.load_id == "", notes.c.part_id == "")
            if not self.link.execute(anchor).rows:
                # An earlier Splarn made no anchor; its notes show that they are there.
                some = self.link.execute(sa.select(notes.c.state).limit(1)).rows
                if not some:
                    return False
                self._insert(schema)
            parts = sa.select(notes.c.load_id).where(
                notes.c.table_name == one, notes.c.part_id != ""
            )
            loads = sa.select(notes.c.load_id).where(notes.c.part_id == "")
            orphans = parts.where(notes.c.load_id.not_in(loads)).limit(1)
            if self.link.execute(orphans).rows:
                return False
        counts = {note.load_id: note.details.part_count for note in self._loads(schema, one)}
        for part in self.parts(list(counts)):
            counts[part.load_id] -= 1
        return all(count <= 0 for count in counts.values())

    def renew(self, table: str) -> None:
        """See Notes."""
        one = self.tables.canonical(table)
        schema = schema_and_name(one)[0]
        if self.are_whole(table):
            return
        notes = notes_table(schema)
        with self.link.failing("Renewing the notes of", table):
            known = sa.select(notes.c.load_id).where(notes.c.part_id == "")
            lost = self.link.execute(
                sa.select(notes.c.load_id)
                .where(notes.c.table_name == one, notes.c.load_id.not_in(known))
                .distinct()
            ).rows
            self.link.execute(notes.delete().where(notes.c.load_id.in_([row[0] for row in lost])))
            if not self.link.execute(sa.select(notes.c.state).where(notes.c.load_id == "")).rows:
                self._insert(schema)
        for note in self._loads(schema, one):
            if note.details.part_count > len(self.parts([note.load_id])):
                bare = note.details.with_(part_count=0, stage="")
                self.put_load(replace(note, state="lost", details=bare))

    def _lock_notes(self, schema: str | None) -> None:
        """Lets nobody else make the notes of a schema until the end of the transaction."""

    def _make_notes(self, schema: str | None) -> None:
        if self._has_notes(schema):
            return
        self._lock_notes(schema)
        if self._has_notes(schema):
            return
        self.link.execute(CreateTable(notes_table(schema), if_not_exists=True))
        self._notes_made.add(schema)
        self._insert(schema)

    def _has_notes(self, schema: str | None) -> bool:
        if schema not in self._notes_made:
            columns = self._note_columns(schema)
            if columns and "details" not in columns:
                # Written by the first Splarn, which kept no details.
                with self.link.failing("Extending", NOTES):
                    kind = _LONG.compile(dialect=self.link.dialect)
                    where = self.link.quoted(join_name(schema, NOTES))
                    self.link.run(f"ALTER TABLE {where} ADD COLUMN details {kind}")
            if columns:
                self._notes_made.add(schema)
        return schema in self._notes_made

    def note_schemas(self) -> list[str | None]:
        """The schemas of this target in which there are notes."""
        return [None] if self._has_notes(None) else []

    def _note_columns(self, schema: str | None) -> set[str]:
        return {column.name for column in self.tables.columns(join_name(schema, NOTES)) or ()}


def _details(note: PartNote) -> str:
    return "|".join((marks_text(note.marks), note.proof, note.begins, note.whole))


def _read_details(text: str) -> dict[str, Any]:
    """The same as fields of a note; an earlier Splarn wrote fewer."""
    marks, proof, begins, whole = (text.split("|") + [""] * 3)[:4]
    return {"marks": read_marks(marks), "proof": proof, "begins": begins, "whole": whole}

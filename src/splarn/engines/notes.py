"""The notes that a target keeps of its loads, in a table of its own beside the rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.schema import CreateTable

from splarn.core.details import LoadDetails
from splarn.core.engine import LoadNote, PartNote
from splarn.core.errors import OutsideError
from splarn.core.marks import marks_text, read_marks
from splarn.engines.connected import Connected

_LONG = sa.Text().with_variant(mysql.LONGTEXT(), "mysql")
# One row a load (with an empty part_id) and one a part of it.
PROGRESS = sa.Table(
    "splarn_progress",
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
    # Of a load its details as JSON, of a part its marks.
    sa.Column("details", _LONG),
)


class NotesSession(Connected):
    """Reading and writing of notes."""

    _notes_made = False

    def lock(self, table: str) -> None:
        """See Session. Where one process alone may open the target there is nobody to wait for."""

    def claim(self, load_id: str) -> bool:
        """See Session."""
        return True

    def settle(self, load_id: str) -> None:
        """See Session. Embedded targets have no one else's open transactions."""

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """See Session."""
        if not self._has_notes():
            return []
        query = sa.select(PROGRESS).where(PROGRESS.c.part_id == "")
        if table is not None:
            query = query.where(PROGRESS.c.table_name == table)
        with self.failing("Reading the notes of", table or self.engine.place):
            found = self.connection.execute(query.order_by(PROGRESS.c.started, PROGRESS.c.load_id))
            return [
                LoadNote(
                    row.load_id,
                    row.table_name,
                    row.state,
                    row.mode,
                    row.started,
                    LoadDetails.read(row.details),
                )
                for row in found
            ]

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Session."""
        if not load_ids or not self._has_notes():
            return []
        with self.failing("Reading the notes of", "earlier loads"):
            found = self.connection.execute(
                sa.select(PROGRESS).where(
                    PROGRESS.c.load_id.in_(load_ids), PROGRESS.c.part_id != ""
                )
            )
            return [
                PartNote(
                    row.load_id,
                    row.part_id,
                    row.name,
                    row.state,
                    row.position,
                    row.rows_in,
                    row.rows_refused,
                    read_marks(row.details or ""),
                )
                for row in found
            ]

    def note_load(self, note: LoadNote) -> None:
        """See Session."""
        with self.failing("Noting a load into", note.table):
            if not self._has_notes():
                self.connection.execute(CreateTable(PROGRESS))
                self._notes_made = True
            changed = self.connection.execute(
                PROGRESS.update()
                .where(PROGRESS.c.load_id == note.load_id, PROGRESS.c.part_id == "")
                .values(state=note.state, details=note.details.text())
            )
            if not changed.rowcount:
                self._insert(
                    load_id=note.load_id,
                    table_name=note.table,
                    state=note.state,
                    mode=note.mode,
                    started=note.started,
                    details=note.details.text(),
                )

    def note_part(self, note: PartNote) -> None:
        """See Session."""
        with self.failing("Noting the part", note.name):
            self._insert(
                load_id=note.load_id, part_id=note.part_id, name=note.name, state=note.state
            )

    def _insert(self, **values: Any) -> None:
        empty = dict.fromkeys(("part_id", "table_name", "name", "mode", "started", "details"), "")
        figures = dict.fromkeys(("position", "rows_in", "rows_refused"), 0)
        self.connection.execute(PROGRESS.insert().values({**empty, **figures, **values}))

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Session."""
        with self.failing("Noting the progress of", now.name):
            changed = self.connection.execute(
                PROGRESS.update()
                .where(
                    PROGRESS.c.load_id == was.load_id,
                    PROGRESS.c.part_id == was.part_id,
                    PROGRESS.c.state == was.state,
                    PROGRESS.c.position == was.position,
                )
                .values(
                    state=now.state,
                    position=now.position,
                    rows_in=now.rows,
                    rows_refused=now.refused,
                    details=marks_text(now.marks),
                )
            )
        if changed.rowcount != 1:
            raise OutsideError(
                f"Another loader is at work on {now.name} in {self.engine.place}: this one stopped "
                "before its batch was committed; wait for the other to end."
            )

    def forget(self, table: str) -> None:
        """See Session."""
        if self._has_notes():
            with self.failing("Removing the notes of", table):
                loads = [note.load_id for note in self.loads(table)]
                self.connection.execute(PROGRESS.delete().where(PROGRESS.c.load_id.in_(loads)))

    def _has_notes(self) -> bool:
        if not self._notes_made:
            columns = self._note_columns()
            if columns and "details" not in columns:
                # Written by the first Splarn, which kept no details.
                with self.failing("Extending", PROGRESS.name):
                    kind = _LONG.compile(dialect=self.connection.dialect)
                    self.run(f"ALTER TABLE {PROGRESS.name} ADD COLUMN details {kind}")
            self._notes_made = bool(columns)
        return self._notes_made

    def _note_columns(self) -> set[str]:
        found = sa.inspect(self.connection)
        if not found.has_table(PROGRESS.name):
            return set()
        return {column["name"] for column in found.get_columns(PROGRESS.name)}

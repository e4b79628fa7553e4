"""Notes of loads into a lake: of a load in the properties of its table, of open parts beside it."""

from __future__ import annotations

from collections.abc import Sequence

from splarn.core.errors import OvertakenError
from splarn.core.target.notes import LoadNote, PartNote
from splarn.engines.lake.tables import Concern


class LakeNotes(Concern):
    """A load's rows and the note that they are in come by one commit of the table."""

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """See Notes. Of all tables only where the catalog answers."""
        if table is None:
            self.link.catalog.look()
        return self.link.loads(table)

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Notes."""
        return self.link.notes_of(load_ids)

    def part(self, was: PartNote) -> PartNote | None:
        """See Notes."""
        return self.link.follow(was)

    def put_load(self, note: LoadNote) -> None:
        """See Notes."""
        self.link.change(note.table).notes[note.load_id] = note

    def put_parts(self, parts: Sequence[PartNote]) -> None:
        """See Notes."""
        for note in parts:
            self.link.note_part(note)

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Notes."""
        known = self.link.known(was)
        fresh = not was.position and not was.rows and not was.refused and was.state == "open"
        if known != was and not (known is None and fresh):
            raise OvertakenError(
                f"Another loader is at work on {now.name} in {self.link.place}: this one stopped "
                "before its batch was committed; wait for the other to end."
            )
        self.link.note_part(now)

    def forget(self, table: str) -> None:
        """See Notes."""
        for note in self.link.loads(table):
            self.link.forget(table, note.load_id)

    def are_whole(self, table: str) -> bool:
        """See Notes. They are part of the table's own metadata."""
        return True

    def renew(self, table: str) -> None:
        """See Notes."""

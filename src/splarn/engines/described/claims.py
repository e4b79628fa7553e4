"""Whose turn it is with a described engine, and what of a load may still come in there."""

from __future__ import annotations

from dataclasses import replace

from splarn.core.target.notes import PartNote
from splarn.engines.described.bringing import await_statement, part_values
from splarn.engines.described.files import DescribedFiles, in_doubt
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.rows import marks_of
from splarn.engines.described.tables import table_values
from splarn.engines.sql.claims import MachineClaims
from splarn.engines.sql.notes import SqlNotes


def is_true(value: object) -> bool:
    """Whether an answer says yes, as a truth, a number or a text."""
    return str(value).strip().lower() in ("1", "t", "true", "y", "yes", "on")


class DescribedClaims(MachineClaims):
    """By the description's statements; where it has none, by locked files on this machine."""

    link: DescribedLink

    def __init__(self, link: DescribedLink, notes: SqlNotes, files: DescribedFiles) -> None:
        super().__init__(link)
        self.notes, self.files = notes, files

    def take_turn(self, table: str) -> None:
        """See MachineClaims."""
        statement = self.link.description.statements.turn
        if statement:
            with self.link.failing("Waiting for a turn with", table):
                self.link.say(statement, **table_values(table))
        else:
            super().take_turn(table)

    def end_turn(self, table: str) -> None:
        """See Claims."""
        statement = self.link.description.statements.end_turn
        if statement:
            with self.link.failing("Leaving", table):
                self.link.say(statement, **table_values(table))
        super().end_turn(table)

    def claim(self, load_id: str) -> bool:
        """See Claims."""
        statement = self.link.description.statements.claim
        if not statement:
            return super().claim(load_id)
        with self.link.failing("Claiming", load_id):
            return is_true(self.link.say(statement, load_id=load_id).value)

    def await_batches(self, load_id: str) -> None:
        """See Claims. Parts at work here come to their end, and no others begin.

        What a client that is gone has begun comes in no more where it would do so with its note,
        and where that is known to be nobody's; elsewhere it is waited for, and noted.
        """
        self.files.break_off()
        told = self.link.description
        begun = [note for note in self.notes.parts([load_id]) if note.state == "open"]
        self.link.commit()
        for note in begun:
            if not told.abilities.transactions:
                if in_doubt(note):
                    await_statement(self.link, note)
                    self._settle(note)
            elif told.statements.claim:
                # A transaction that was to move this note on fails, with all that it brought.
                self.notes.advance(note, replace(note, position=note.position + 1))
            self.link.commit()

    def _settle(self, note: PartNote) -> None:
        """Notes a part as in that came in unheard, where the history tells by the part itself."""
        told = self.link.description.statements
        if not told.came_in or "{address}" in told.came_in + told.refused:
            return
        values = part_values(note)
        with self.link.failing("Asking the history of", note.name):
            answer = self.link.say(told.came_in, **values)
            rows = self.link.number("statements.came_in", answer)
            refused = len(self.link.say(told.refused, **values).rows) if told.refused else 0
        if rows:
            marks = marks_of(self.link.description, note.load_id)
            done = replace(note, state="done", rows=rows, refused=refused, marks=marks)
            self.notes.advance(note, done)

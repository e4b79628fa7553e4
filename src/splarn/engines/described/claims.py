"""Whose turn it is with a described engine, and what of a load may still come in there."""

from __future__ import annotations

import hashlib
import tempfile
import time
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import IO

from splarn.core.errors import OutsideError
from splarn.core.target.notes import PartNote
from splarn.core.work.disk import outside
from splarn.engines.described.bringing import await_statement, part_values
from splarn.engines.described.files import DescribedFiles, in_doubt
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.rows import marks_of
from splarn.engines.described.tables import table_values
from splarn.engines.sql.claims import FileClaims, fcntl, to_be_locked
from splarn.engines.sql.notes import SqlNotes

# How long a session waits for its turn with a table, and between two looks, in seconds.
PATIENCE, LOOK_EVERY = 120.0, 0.02


def is_true(value: object) -> bool:
    """Whether an answer says yes, as a truth, a number or a text."""
    return str(value).strip().lower() in ("1", "t", "true", "y", "yes", "on")


class DescribedClaims(FileClaims):
    """By the description's statements; where it has none, by locked files on this machine."""

    link: DescribedLink

    def __init__(self, link: DescribedLink, notes: SqlNotes, files: DescribedFiles) -> None:
        place = hashlib.sha256(link.place.encode()).hexdigest()[:16]
        super().__init__(link, Path(tempfile.gettempdir(), "splarn-claims", place))
        self.notes, self.files = notes, files
        self._turns: dict[str, IO[bytes]] = {}
        if fcntl is not None:
            with outside(f"Making {self.database.parent}"), suppress(FileExistsError):
                self.database.parent.mkdir()
                # Other users come here too.
                self.database.parent.chmod(0o1777)

    def take_turn(self, table: str) -> None:
        """See Claims. Raises OutsideError when others do not leave the table for long."""
        statement = self.link.description.statements.turn
        if statement:
            with self.link.failing("Waiting for a turn with", table):
                self.link.say(statement, **table_values(table))
        elif fcntl is not None and table not in self._turns:
            self._turns[table] = self._turn(table)

    def _turn(self, table: str) -> IO[bytes]:
        name = hashlib.sha256(table.encode()).hexdigest()[:16]
        path = self.database.with_name(f".{self.database.name}.turn-{name}")
        with outside(f"Waiting for a turn with {table}"):
            file = to_be_locked(path)
        until = time.monotonic() + PATIENCE
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                return file
            except BlockingIOError:
                if time.monotonic() > until:
                    file.close()
                    raise OutsideError(
                        f"Another load has held {table} of {self.link.place} for {PATIENCE:.0f} s: "
                        "wait for it to end, or stop it."
                    ) from None
            time.sleep(LOOK_EVERY)

    def end_turn(self, table: str) -> None:
        """See Claims."""
        statement = self.link.description.statements.end_turn
        if statement:
            with self.link.failing("Leaving", table):
                self.link.say(statement, **table_values(table))
        if (file := self._turns.pop(table, None)) is not None:
            file.close()

    def close(self) -> None:
        """See SqlClaims."""
        super().close()
        for file in self._turns.values():
            file.close()
        self._turns.clear()

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

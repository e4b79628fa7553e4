"""What is asked of an engine about the notes of loads, and about whose turn it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Protocol

from splarn.core.source.content import BEGINS, Identity
from splarn.core.target.details import LoadDetails
from splarn.core.target.marks import Marks


@dataclass(frozen=True)
class LoadNote:
    """The target's own record of one load into one table.

    `table` is the canonical name. `state` is open, done, emptied (its rows went with a later load),
    undone, or lost (its notes are incomplete); `mode` the table mode it was begun with.
    """

    load_id: str
    table: str
    state: str
    mode: str
    started: str
    details: LoadDetails = field(default_factory=LoadDetails)


@dataclass(frozen=True)
class PartNote:
    """How far one part of a load is in: unpacked bytes, rows stored, rows refused.

    `marks` tell the engine which rows those are; None when it cannot tell them from others.
    `table` is that of the load. `proof` is a hash of the file's bytes up to the position, empty
    where nothing was read or the file is columnar. `begins` and `whole` are as in Identity.
    """

    load_id: str
    part_id: str
    name: str
    state: str
    position: int
    rows: int
    refused: int
    marks: Marks | None = ()
    table: str = ""
    proof: str = ""
    begins: str = ""
    whole: str = ""

    @property
    def content(self) -> Identity:
        """What it holds. Parts of an earlier Splarn are named after all of their records."""
        named = "" if self.part_id.startswith(BEGINS) else self.part_id
        return Identity(self.begins, self.whole or named)


class Notes(Protocol):
    """The notes of loads, kept in the target beside the rows that they tell of."""

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """Loads noted for the table or for all, oldest first."""

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """Parts noted for the loads."""

    def part(self, was: PartNote) -> PartNote | None:
        """What is noted of a part now, None where nothing is.

        This session goes on from there; one that is still at work on the part brings nothing in.
        """

    def put_load(self, note: LoadNote) -> None:
        """Notes a load, or its new state and details."""

    def put_parts(self, parts: Sequence[PartNote]) -> None:
        """Notes parts of a load, before the first row of each or with those in one transaction."""

    def advance(self, was: PartNote, now: PartNote) -> None:
        """Moves a part's note on from `was` to `now`.

        Raises OvertakenError when the note is no longer `was`: another loader is at work on it.
        """

    def forget(self, table: str) -> None:
        """Removes all notes of loads into the table."""

    def are_whole(self, table: str) -> bool:
        """Whether nobody has removed notes of loads into the table."""

    def renew(self, table: str) -> None:
        """Begins the notes anew where some are lost; loads of which a part is noted end as lost."""


class Claims(Protocol):
    """Who may do what, among all loaders of a target at once."""

    def take_turn(self, table: str) -> None:
        """Waits for its turn to begin or end a load into the table."""

    def end_turn(self, table: str) -> None:
        """Lets others have their turn, where a commit does not do that."""

    def claim(self, load_id: str) -> bool:
        """Whether this session may carry the load out; until it closes. True where unknown."""

    def await_batches(self, load_id: str) -> None:
        """Waits for batches of the load that are about to be committed by others."""

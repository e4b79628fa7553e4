"""Parts handed over whole: what an engine that reads files itself is asked for, and answers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from splarn.core.check.limit import BadRows
from splarn.core.layout import Layout
from splarn.core.reading.faults import Fault
from splarn.core.source.places import Place
from splarn.core.target.notes import PartNote


@dataclass(frozen=True)
class Size:
    """The compute of an engine that has sizes. `tiers` are those it can have, smallest first.

    `running` says that it is not idle, so that work does not have to start it.
    """

    tier: str
    tiers: tuple[str, ...]
    running: bool


@dataclass(frozen=True)
class HandedPart:
    """One file to load. `part_id` is that of its note in the target.

    `hash` is what its bytes on disk must have, empty where nothing tells, and `raw_bytes` how many
    it has unpacked and `rows` how many rows, 0 where that is not known.
    """

    part_id: str
    path: Place
    codec: str
    hash: str = ""
    raw_bytes: int = 0
    rows: int = 0


@dataclass(frozen=True)
class PartsOrder:
    """Files to load into a table, `streams` at once. `names` are the fields stored.

    The engine notes each part as done in the transaction that brings its rows in, and a part that
    is noted as done is not loaded again. `rows_before` are rows that were in the table before.
    """

    load_id: str
    table: str
    layout: Layout
    names: tuple[str, ...]
    parts: tuple[HandedPart, ...]
    streams: int
    batch_rows: int
    bad_rows: BadRows
    rows_before: int = 0


@dataclass(frozen=True)
class PartJob:
    """What the engine says of one part; times are seconds of its own clock.

    `state` is waiting, begun, ended or failed. `bytes` are unpacked ones. `error` says why a part
    failed.
    """

    part_id: str
    state: str
    waiting: float
    begun: float
    ended: float
    bytes: int
    rows: int
    refused: int
    error: str
    faults: tuple[Fault, ...]


@dataclass(frozen=True)
class PartsLoaded:
    """What an engine says of an order, and the seconds it took to send files into its inbox.

    None of one that has no inbox.
    """

    jobs: tuple[PartJob, ...]
    sending: float | None = 0.0


# Told how many parts are through.
Watch = Callable[[int], None]


class Compute(Protocol):
    """Compute that has sizes and is paid for."""

    def size(self) -> Size:
        """The compute as it is."""

    def resize(self, tier: str) -> None:
        """Gives the compute another size; done when this returns."""


@dataclass(frozen=True)
class Standing:
    """How far an order is by a clock of the engine's own, which may be ahead of ours.

    `until` is when the parts that are through will be over, `busy` for how many seconds at least
    one of them was at work.
    """

    until: float
    busy: float


class OpenOrder(Protocol):
    """An order whose parts come meanwhile. All raise OutsideError when the engine fails."""

    @property
    def standing(self) -> Standing | None:
        """What came with the last news; None where the engine's clock is ours."""

    def add(self, parts: Sequence[HandedPart], notes: Sequence[PartNote]) -> None:
        """Hands further parts over, and notes those that have no note yet; files are there."""

    def news(self, wait: bool = True) -> list[PartJob]:
        """Parts that are through since this was last asked; may `wait` a little for one."""

    def end(self) -> PartsLoaded:
        """Nothing more will come; waits for what is at work, and says when each part was."""


class WholeFiles(Protocol):
    """An engine that reads files itself."""

    def load_parts(self, order: PartsOrder, watch: Watch) -> PartsLoaded:
        """Lets the engine load files, and waits for it; what it says of each, failed ones too.

        Parts that an earlier call brought in are not loaded again and are among those returned.
        """

    def open_order(self, order: PartsOrder) -> OpenOrder:
        """Begins an order without parts."""

    def send(self, part: HandedPart) -> None:
        """Sends a file from here to where the engine finds it, unless it is there."""

    def let_pass(self, seconds: float) -> None:
        """So much time went by in which parts were made; for an engine with a clock of its own."""

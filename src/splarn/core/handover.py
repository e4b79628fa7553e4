"""Parts handed over whole: what an engine that reads files itself is asked for, and answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from splarn.core.faults import Fault
from splarn.core.layout import Layout
from splarn.core.limit import BadRows
from splarn.core.places import Place


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

    `hash` is what its bytes on disk must have, empty where nothing tells.
    """

    part_id: str
    path: Place
    codec: str
    hash: str = ""


@dataclass(frozen=True)
class Order:
    """Files to load into a table, `streams` at once. `names` are the fields stored.

    The engine notes each part as done in the transaction that brings its rows in, and a part that
    is noted as done is not loaded again.
    """

    load_id: str
    table: str
    layout: Layout
    names: tuple[str, ...]
    parts: tuple[HandedPart, ...]
    streams: int
    batch_rows: int
    bad_rows: BadRows


@dataclass(frozen=True)
class Job:
    """What the engine says of one part; times are seconds of its own clock.

    `state` is done or failed. `bytes` are unpacked ones. `error` says why a part failed.
    """

    part_id: str
    state: str
    queued: float
    started: float
    finished: float
    bytes: int
    rows: int
    refused: int
    error: str
    faults: tuple[Fault, ...]


@dataclass(frozen=True)
class Carried:
    """What an engine says of an order, and the seconds it took to send files into its inbox."""

    jobs: tuple[Job, ...]
    sending: float = 0.0


# Told how many parts are through.
Watch = Callable[[int], None]

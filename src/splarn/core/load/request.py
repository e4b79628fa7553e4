"""What is asked of a load, and what came of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from splarn.core.codecs import codec_of
from splarn.core.digest import ColumnDigest
from splarn.core.engine import OpenEngine
from splarn.core.errors import RequestError
from splarn.core.faults import Fault
from splarn.core.files import content_hash
from splarn.core.layout import Layout
from splarn.core.levers import LoadLevers
from splarn.core.limit import BadRows
from splarn.core.load.stream import PartResult
from splarn.core.places import Place
from splarn.core.prices import Stretch, Usage
from splarn.core.reading.sources import check_sources
from splarn.core.shape.manifest import Manifest

TABLE_MODES = ("create", "append", "empty", "replace")
HALT = BadRows(0)
PLAIN = LoadLevers()
IDENTITY = ("keep", "fill")


@dataclass(frozen=True)
class Input:
    """One file to load. `content_id` is the hash of its bytes as they lie on disk."""

    path: Place
    codec: str
    content_id: str
    raw_bytes: int | None = None
    rows: int | None = None


@dataclass(frozen=True)
class LoadRequest:
    """What to load and how. `rejects` is the folder for refused rows.

    `columns` are the fields to store, None for all; `identity` says whose numbers a column gets
    that the engine numbers, None for the files' with a note. `keep_before` keeps the rows that
    `empty` and `replace` remove, so that the load can be taken back. `tier` is the size of the
    compute while rows come in, `read_tier` the one for verifying and afterwards; None is what it
    has.
    """

    open_engine: OpenEngine
    table: str
    layout: Layout
    inputs: tuple[Input, ...]
    batch_rows: int = 50_000
    table_mode: str = "create"
    bad_rows: BadRows = HALT
    rejects: Path | None = None
    again: bool = False
    verify: bool = True
    levers: LoadLevers = PLAIN
    columns: tuple[str, ...] | None = None
    identity: str | None = None
    keep_before: bool = True
    tier: str | None = None
    read_tier: str | None = None


@dataclass(frozen=True)
class LoadRecord:
    """What came of a load. `phases` are seconds; `differences` is empty when all arrived.

    `notes` are what a person should know besides. `before` is the table that keeps the rows from
    before, if any were removed. `compute` is what ran meanwhile, by the engine's clock; `moved`
    are bytes handed over or fetched, `scanned` those that a rented engine read to verify.
    """

    load_id: str
    table: str
    place: str
    parts: tuple[PartResult, ...]
    rows_loaded: int
    rows_rejected: int
    seconds: float
    phases: dict[str, float]
    verified: bool | None
    differences: tuple[str, ...]
    digests: tuple[ColumnDigest, ...]
    rejects: Path | None
    resumed: bool
    notes: tuple[str, ...] = ()
    before: str | None = None
    compute: tuple[Stretch, ...] = ()
    moved: int = 0
    scanned: int = 0
    requests: int = 0

    def usage(self, tier: str) -> Usage:
        """What the load used; `tier` is that of a compute without sizes of its own."""
        return Usage(
            self.compute or (Stretch(tier, self.seconds),),
            self.seconds,
            requests=self.requests,
            moved=self.moved,
            scanned=self.scanned,
        )

    @property
    def faults(self) -> list[Fault]:
        """The first few faults of each part."""
        return [fault for part in self.parts for fault in part.faults]


def inputs_from_files(paths: Sequence[Place], layout: Layout) -> tuple[Input, ...]:
    """Files as they came, their headers held against the layout.

    Raises RequestError as `check_sources` does, or when a file is given twice under two names.
    """
    check_sources(paths, layout)
    found: dict[str, Input] = {}
    for path in paths:
        codec = codec_of(path)
        entry = Input(path, codec, content_hash(path), path.stat().st_size)
        twin = found.get(entry.content_id)
        if twin is not None and entry.raw_bytes:
            raise RequestError(
                f"{path} holds the same content as {twin.path}: leave one out, or its rows would "
                "be in the table twice."
            )
        found[entry.content_id] = entry
    return tuple(found.values())


def inputs_from_manifest(manifest: Manifest) -> tuple[Input, ...]:
    """The parts of a manifest.

    Raises RequestError when a part is missing or has another size than listed.
    """
    found = []
    for part in manifest.parts:
        path = manifest.folder / part.path
        size = path.stat().st_size if path.is_file() else -1
        if size != part.bytes:
            state = "is missing" if size < 0 else f"has {size:,} bytes, not {part.bytes:,}"
            raise RequestError(f"The part {path} {state}: shape the source again.")
        found.append(Input(path, part.codec, part.hash, part.raw_bytes, part.rows))
    return tuple(found)

"""What is asked of a load, and what came of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from splarn.core.check.limit import BadRows
from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.load.pieces import Piece, pieces_of
from splarn.core.load.task import PartResult
from splarn.core.prices import Stretch, Usage
from splarn.core.reading.faults import Fault
from splarn.core.reading.sources import read_sources
from splarn.core.shape.manifest import Manifest, Part
from splarn.core.source.content import NO_RECORDS, Held, Identity
from splarn.core.source.places import Place
from splarn.core.source.source import Identify, Source, identified, look
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.levers import LoadLevers
from splarn.core.target.session import OpenEngine
from splarn.core.work.pool import Inline, Pool

TABLE_MODES = ("create", "append", "empty", "replace", "renew")
HALT = BadRows(0)
PLAIN = LoadLevers()
NUMBERS = ("files", "table")


@dataclass(frozen=True)
class Input:
    """One file to load. `part_id` is what its note has, which never changes.

    `content` is what is known of its records, `packed_hash` what the bytes on disk must have, where
    a manifest tells. `holds` are the stretches of other contents that it was made of, `pieces`
    where its records lie in them. `layout` is what it is read by, None for that of the load's
    inputs.
    """

    source: Source
    part_id: str
    content: Identity
    raw_bytes: int | None = None
    rows: int | None = None
    packed_hash: str = ""
    holds: tuple[Held, ...] = ()
    pieces: tuple[Piece, ...] = ()
    layout: Layout | None = None

    @property
    def path(self) -> Place:
        """Where it is."""
        return self.source.place

    @property
    def codec(self) -> str:
        """How it is packed."""
        return self.source.codec

    @property
    def contents(self) -> tuple[Held, ...]:
        """All that is known of what it holds."""
        return (Held(self.content), *self.holds)


@dataclass(frozen=True)
class LoadRequest:
    """What to load and how. `rejects` is the folder for refused rows.

    `columns` are the fields to store, None for all; `numbers` says whose numbers a column gets
    that the engine numbers, None for the files' with a note. `keep_old` keeps the rows that
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
    numbers: str | None = None
    keep_old: bool = True
    tier: str | None = None
    read_tier: str | None = None
    # Loads that were seen to begin, each with its table, so that the target must have their notes.
    begun: tuple[tuple[str, str], ...] = ()
    # By what run parts are brought while others are loaded, and how it cuts them; `inputs` are then
    # the files that they are made of, and read by a layout of their own, until all have come.
    run: str = ""
    cut: str = ""
    delivered: Layout | None = None

    @property
    def inputs_layout(self) -> Layout:
        """What the inputs are read by."""
        return self.delivered or self.layout


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
    # Rows that were looked for in the table, value by value.
    compared: int = 0
    # Whether all rows were held against what was read, by a hash of each.
    hashed: bool = False
    # Whether an earlier command had brought everything in, so that this one only looked.
    done_before: bool = False
    # Core-seconds of this machine by stage, of the streams alone.
    stages: Mapping[str, float] = field(default_factory=dict)
    # What the engine says it is.
    engine: str = ""
    # What holds of an engine that is described, in sentences.
    promises: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """Everything, ready for JSON."""
        return {
            "load_id": self.load_id,
            "table": self.table,
            "target": self.place,
            "engine": self.engine,
            "rows_loaded": self.rows_loaded,
            "rows_rejected": self.rows_rejected,
            "parts": [
                {
                    "path": part.path,
                    "status": part.note.state,
                    "rows": part.note.rows,
                    "rejected": part.note.refused,
                    "seconds": part.seconds,
                }
                for part in self.parts
            ],
            "seconds": self.seconds,
            "phases": self.phases,
            "stages": dict(self.stages),
            "verified": self.verified,
            "differences": list(self.differences),
            "digests": [digest.__dict__ for digest in self.digests],
            "rejects": str(self.rejects) if self.rejects else None,
            "resumed": self.resumed,
            "notes": list(self.notes),
            "before": self.before,
            "compared": self.compared,
            "hashed": self.hashed,
            "done_before": self.done_before,
            "promises": list(self.promises),
            "compute": [[one.tier, one.seconds] for one in self.compute],
        }

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


def inputs_from_files(
    paths: Sequence[Place], layout: Layout, pool: Pool | None = None
) -> tuple[Input, ...]:
    """Files as they came, their headers held against the layout.

    Raises RequestError as `read_sources` does, or when a file is given twice under two names.
    """
    return inputs_of_kinds([(paths, layout)], pool)


def inputs_of_kinds(
    kinds: Sequence[tuple[Sequence[Place], Layout]], pool: Pool | None = None
) -> tuple[Input, ...]:
    """Files of several layouts, as `inputs_from_files` has those of one."""
    pool = pool or Inline()
    begun = []
    for paths, layout in kinds:
        sources = read_sources(paths, layout, headers_do=True)
        # Each is read whole by its load, and only then: how it begins tells it from the others.
        known = pool.map(identified, [Identify(one, layout, False) for one in sources])
        begun += [
            Input(source, one.name, one, source.size, layout=layout)
            for source, one in zip(sources, known, strict=True)
        ]
    times = Counter(one.part_id for one in begun)
    alike = {part_id for part_id, count in times.items() if count > 1}
    inputs = identify_whole(begun, kinds[0][1], pool, alike)
    by_id: dict[str, Input] = {}
    for entry in inputs:
        twin = by_id.get(entry.part_id)
        if twin is not None and entry.content != NO_RECORDS:
            raise RequestError(
                f"{entry.path} holds the same content as {twin.path}: leave one out, or its rows "
                "would be in the table twice."
            )
        by_id[entry.part_id] = entry
    return tuple(by_id.values())


def identify_whole(
    inputs: Sequence[Input], layout: Layout, pool: Pool, part_ids: Collection[str]
) -> tuple[Input, ...]:
    """The same, those of some parts read to their ends where they are not known whole."""
    wanted = {
        number: Identify(one.source, one.layout or layout)
        for number, one in enumerate(inputs)
        if one.part_id in part_ids and not (one.content.whole and one.content.begins)
    }
    contents = dict(zip(wanted, pool.map(identified, list(wanted.values())), strict=True))
    known = list(inputs)
    for number, content in contents.items():
        # What a manifest names its part by stays, be it only a hash of the bytes on disk.
        whole = known[number].content.whole or content.whole
        also = content.also if whole == content.whole else content.whole
        known[number] = replace(
            known[number], part_id=whole, content=Identity(content.begins, whole, also)
        )
    return tuple(known)


def rejects_files(inputs: Sequence[Input]) -> dict[str, str]:
    """The rejects file of each input, by the id of its part; files of one name have one each."""
    names = Counter(entry.path.name.lower() for entry in inputs)
    return {
        entry.part_id: rejects_file(entry)
        if names[entry.path.name.lower()] == 1
        else f"{entry.path.name}.{entry.part_id[-8:]}.rejects.jsonl"
        for entry in inputs
    }


def rejects_file(entry: Input) -> str:
    """The rejects file of an input whose name no other has."""
    return f"{entry.path.name}.rejects.jsonl"


def inputs_from_manifest(manifest: Manifest) -> tuple[Input, ...]:
    """The parts of a manifest.

    Raises RequestError when a part is missing or has another size than listed.
    """
    inputs = []
    for part in manifest.parts:
        path = manifest.folder / part.path
        size, stamp = look(path) if path.is_file() else (-1, (0, 0, 0))
        if size != part.bytes:
            state = "is missing" if size < 0 else f"has {size:,} bytes, not {part.bytes:,}"
            raise RequestError(f"The part {path} {state}: shape the source again.")
        source = Source(path, size, stamp, part.codec, manifest.layout.format)
        inputs.append(input_of_part(manifest, part, source))
    return tuple(inputs)


def input_of_part(manifest: Manifest, part: Part, source: Source) -> Input:
    """A part of a manifest, found at a place."""
    known = manifest.contents
    whole = part.content or part.hash
    return Input(
        source,
        whole,
        Identity("", whole),
        part.raw_bytes,
        part.rows,
        part.hash,
        tuple(
            Held(known[piece.path], piece.start, piece.end)
            for piece in part.source
            if piece.path in known
        ),
        pieces_of(part, manifest.layout),
    )

"""A table of another target in place of files: its rows unloaded into parts that are handed on."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import xxhash

from splarn.core.errors import RequestError
from splarn.core.flow.bringing import Making
from splarn.core.load.request import Input
from splarn.core.load.verify import compare_digests
from splarn.core.shape.folder import Unfinished, fingerprint, part_name
from splarn.core.shape.manifest import Manifest, Part
from splarn.core.shape.shaper import Handing, Shaped
from splarn.core.source.content import Identity
from splarn.core.source.source import Source
from splarn.core.target.digest import ColumnDigest
from splarn.core.unload import UnloadRequest
from splarn.core.unload.unloader import Leaving, parts_of_all
from splarn.core.work.progress import Progress, Silent


@dataclass(frozen=True, kw_only=True)
class TableMaking(Making):
    """How parts are made of rows that leave another target, held as they are meanwhile."""

    going: Leaving
    request: UnloadRequest

    @property
    def size(self) -> float:
        """About the bytes of all rows as text."""
        return self.going.rows * self.going.row_bytes

    def make(self, handing: Handing, watch: Progress) -> Shaped:
        """Makes the parts and hands each on; those that an earlier try made are not made again.

        Raises RequestError where the rows are not what they were then, OutsideError when the target
        or the disk fails.
        """
        going, request = self.going, self.request
        begun = time.perf_counter()
        settings = going.settings(request)
        mark = Unfinished(
            self.folder, fingerprint((), *settings), False, part_name(going.name), handing.stands
        )
        made: dict[str, list[Part]] = {task.stem: [] for task in going.tasks}
        kept = 0
        watch.start("unload", self.size, "bytes")
        with handing.at_work.working():
            # The pool tells of rows, and the flow counts bytes.
            for task, part, before in parts_of_all(going.tasks, mark, self.pool, Silent()):
                handing.hand(part)
                watch.advance(part.raw_bytes)
                made[task.stem].append(part)
                kept += before
        watch.finish()
        parts = tuple(part for some in made.values() for part in some)
        named = str(Path(going.wanted.table))
        manifest = Manifest(self.folder, going.made, parts, {named: identity_of(self)})
        seconds = time.perf_counter() - begun
        return Shaped(manifest, round(self.size), seconds, mark, kept)


def identity_of(making: TableMaking) -> Identity:
    """What the rows are known by: whose they are, how many, and what the target says of them."""
    going, request = making.going, making.request
    said = repr((request.identity, going.wanted, going.rows, going.there))
    return Identity("", f"table-{xxhash.xxh3_128_hexdigest(said.encode())}")


def input_of(making: TableMaking) -> Input:
    """The table as what a load is going to hold. Raises RequestError for rows of a query."""
    going = making.going
    if going.wanted.query:
        raise RequestError("A run takes the rows of a table, not of a query.")
    source = Source(Path(going.wanted.table), going.rows, (0, 0, 0), "none", making.output.format)
    whole = identity_of(making)
    return Input(source, whole.whole, whole)


def held_against(
    going: Leaving, rows: int, read: Sequence[ColumnDigest]
) -> tuple[bool | None, tuple[str, ...]]:
    """Whether rows that were read out of the parts are those of the target, and what differs.

    None where nothing but their number could be held against it.
    """
    if rows != going.rows:
        return False, (f"{rows:,} rows came out and {going.rows:,} were in it",)
    told = [one for one in read if one.values + one.nulls == rows]
    if going.there is None or len(told) < len(going.there):
        return None, ()
    differs = tuple(compare_digests(told, [], going.there))
    return not differs, differs

"""Files of a lake table written anew, and files that nothing needs any more removed."""

from __future__ import annotations

import hashlib
import json
import secrets
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.columns import LakeColumn, row_sum, schema_of, slow_row_sum
from splarn.core.lake.ordering import in_order, regrouped
from splarn.core.lake.owners import NOBODY, Owners
from splarn.core.lake.partitions import shown
from splarn.core.lake.writing import DataFile, RowsFile
from splarn.core.layout.file_layout import FileLayout
from splarn.core.target.hashing import RowSum
from splarn.core.target.marks import Marks
from splarn.core.target.merging import (
    Leftover,
    Merged,
    MergeOrder,
    SeenFile,
    TableState,
    Tried,
)
from splarn.engines.lake.catalog import FilesGoneError
from splarn.engines.lake.changes import TableFile
from splarn.engines.lake.reading import MERGED, all_owners, count_of, opened, tables_of
from splarn.engines.lake.tables import Concern

# Rows that are sorted in memory at a time.
SORTED_BYTES = 192 << 20
TRIED_BYTES, TRIED_FILES = 8 << 20, 3
# The column that says whose a row is, while rows are on their way; no table can have it.
OWNER = "\0owner"


class LakeMerging(Concern):
    """Merges, each by new files that only a commit makes part of the table."""

    def files(self, table: str) -> list[SeenFile]:
        """See Merging."""
        layout = self.link.layout(table)
        return [_seen(one, layout) for one in self.link.files(table)]

    def layout(self, table: str) -> FileLayout:
        """See Merging."""
        return self.link.layout(table)

    def basis(self, table: str) -> Any:
        """See Merging."""
        columns = self.link.columns(table) or ()
        for one in columns:
            if one.arrow_type is None:
                raise RequestError(
                    f"{table} has the column {one.name} of the type {one.type}, which is not "
                    "written here: its files cannot be merged."
                )
        return columns, self.link.layout(table)

    def merge(self, order: MergeOrder) -> Merged:
        """See Merging. The catalog is not asked: the commit sees whether the files are there."""
        files = _files(order)
        outputs, before = self._written(order, files)
        inputs = tuple(one.file.path for one in files)
        kept = f"{self._kept(order.table)}/{_token((order.way, *inputs))}.json"
        try:
            self._hold(order, files, outputs, before)
            written = [[one.path, one.rows, one.bytes, list(one.partition)] for one in outputs]
            document = {"inputs": inputs, "way": order.way, "outputs": written}
            self.link.storage.write(kept, json.dumps(document).encode())
        except BaseException:
            self._drop(one.path for one in outputs)
            raise
        told = tuple((one.path, one.rows, one.bytes) for one in outputs)
        return Merged(inputs, told, order.way, kept)

    def _written(
        self, order: MergeOrder, files: Sequence[TableFile]
    ) -> tuple[list[DataFile], RowSum | None]:
        """The rows of files in new ones, and the sum of their hashes as they were read, None where
        nothing quick hashes them; nothing is left of it where it fails."""
        columns, kept = order.basis
        layout = replace(kept, file_bytes=order.file_bytes)
        folder = files[0].file.path.rpartition("/")[0]
        token, made = f"{MERGED}-{secrets.token_hex(8)}", list[DataFile]()
        schema = schema_of(columns)
        file: RowsFile | None = None
        owners: list[Any] = []
        loads: dict[int, int] = {}
        try:
            again = _Again(self, files, columns, loads)
            rows = in_order(again, order.sort, self._passes(order, files))
            for some in regrouped(rows, layout.group_rows):
                if file is not None and file.bytes >= layout.file_bytes:
                    made.append(file.close(_owners(loads, owners)))
                    file, owners = None, []
                if file is None:
                    path = f"{folder}/{token}-{len(made) + 1:04d}.parquet"
                    values = files[0].file.partition
                    file = RowsFile(self.link.storage.create, path, schema, layout, values)
                owners.append(np.asarray(some.column(OWNER)))
                file.put(pa.Table.from_arrays(some.drop_columns([OWNER]).columns, schema=schema))
            if file is not None:
                made.append(file.close(_owners(loads, owners)))
        except BaseException:
            if file is not None:
                file.abandon()
            self._drop(one.path for one in made)
            raise
        return made, again.total

    def _passes(self, order: MergeOrder, files: Sequence[TableFile]) -> int:
        """How often the rows are gone through so that a part of them can be sorted in memory."""
        if not order.sort:
            return 1
        size = 0
        for one in files:
            with opened(self.link.storage, one.file.path) as file:
                size += sum(file.metadata.row_group(n).total_byte_size
                            for n in range(file.metadata.num_row_groups))  # fmt: skip
        return max(-(-size * 2 // SORTED_BYTES), 1)

    def _hold(
        self, order: MergeOrder, files: Sequence[TableFile], outputs: Sequence[DataFile],
        before: RowSum | None,
    ) -> None:  # fmt: skip
        """Raises OutsideError where the new files do not hold the rows of the old ones, the sum of
        whose hashes is that of `before`."""
        columns, _ = order.basis
        new = [TableFile(one) for one in outputs]
        after = None if before is None else self._sum(new, columns, row_sum)
        if before is None or after is None:
            # Nothing quick hashes such rows here.
            before = self._sum(files, columns, slow_row_sum)
            after = self._sum(new, columns, slow_row_sum)
        assert before is not None, "it hashes whatever there is"
        assert after is not None, "it hashes whatever there is"
        if before != after:
            raise OutsideError(
                f"The new files of {order.table} hold {after.rows:,} rows, not the "
                f"{before.rows:,} of the old ones, or other values: nothing was changed."
            )

    def _sum(
        self, files: Sequence[TableFile], columns: Sequence[LakeColumn],
        hashed: Callable[[Any], RowSum | None],
    ) -> RowSum | None:  # fmt: skip
        """The sum of all row hashes; None where some rows cannot be hashed so."""
        total = RowSum()
        for rows in tables_of(self.link.storage, files, columns):
            some = hashed(rows)
            if some is None:
                return None
            total = total.plus(some)
        return total

    def _drop(self, paths: Iterator[str]) -> None:
        for path in paths:
            with suppress(OutsideError):
                self.link.storage.remove(path)

    def _kept(self, table: str) -> str:
        token = hashlib.sha256(table.encode()).hexdigest()[:16]
        return f"{self.link.book.root}/merged/{token}"

    def kept(self, table: str) -> list[Merged]:
        """See Merging."""
        there = {one.file.path for one in self.link.files(table)}
        found = []
        for uri in self.link.storage.names(self._kept(table)):
            document = json.loads(self.link.storage.read(uri) or b"{}")
            inputs = tuple(document.get("inputs", ()))
            outputs = tuple((path, rows, size) for path, rows, size, _ in document["outputs"])
            sizes = [self.link.storage.size(path) for path, _, _ in outputs]
            whole = all(size is not None and size[0] == output[2]
                        for size, output in zip(sizes, outputs, strict=True))  # fmt: skip
            if set(inputs) <= there and whole:
                found.append(Merged(inputs, outputs, document["way"], uri))
                continue
            if not any(path in there for path, _, _ in outputs):
                self._drop(path for path, _, _ in outputs)
            self.link.storage.remove(uri)
        return found

    def commit(self, table: str, merged: Sequence[Merged]) -> list[Merged]:
        """See Merging."""
        left = list(merged)
        while left:
            self.link.rollback()
            there = {one.file.path for one in self.link.files(table)}
            left = [one for one in left if set(one.inputs) <= there]
            if not left:
                break
            change = self.link.change(table)
            for one in left:
                change.remove |= set(one.inputs)
                document = json.loads(self.link.storage.read(one.kept) or b"{}")
                change.add += [TableFile(DataFile(path, rows, size, tuple(values)))
                               for path, rows, size, values in document["outputs"]]  # fmt: skip
            self.link.storage.settle(path for one in left for path, _, _ in one.outputs)
            change.summary["splarn.compacted"] = str(len(change.remove))
            with suppress(FilesGoneError):
                self.link.commit()
                break
        for one in merged:
            if one not in left:
                self._drop(path for path, _, _ in one.outputs)
            self.link.storage.remove(one.kept)
        return left

    def try_out(self, order: MergeOrder) -> Tried:
        """See Merging."""
        few: list[SeenFile] = []
        for one in order.files[:TRIED_FILES]:
            if few and sum(some.bytes for some in few) + one.bytes > TRIED_BYTES:
                break
            few.append(one)
        tried = replace(order, files=tuple(few))
        files = _files(tried)
        begun = time.perf_counter()
        for found in files:
            with opened(self.link.storage, found.file.path):
                pass
        opening = (time.perf_counter() - begun) / len(files)
        begun = time.perf_counter()
        made, before = self._written(tried, files)
        try:
            self._hold(order, files, made, before)
            seconds = time.perf_counter() - begun
        finally:
            self._drop(one.path for one in made)
        return Tried(tried.bytes, sum(one.bytes for one in made), seconds, opening)

    def give_way(self, table: str, side_table: str) -> None:
        """See Merging."""
        gone = {one.file.path for one in self._in_the_way(table, side_table)}
        self.link.change(table).remove |= gone

    def in_the_way(self, table: str, side_table: str) -> int:
        """See Merging."""
        return sum(one.file.rows for one in self._in_the_way(table, side_table))

    def _in_the_way(self, table: str, side_table: str) -> list[TableFile]:
        coming = {one.file.partition for one in self.link.files(side_table)}
        return [one for one in self.link.files(table) if one.file.partition in coming]

    def give_back(self, table: str, before: str, marks: Marks, act: bool) -> int:
        """See Merging."""
        there = self.link.files(table)
        mine = {one.file.partition for one in there if count_of(self.link.storage, one, marks)}
        paths = {one.file.path for one in there}
        back = [one for one in self.link.files(before)
                if one.file.partition in mine and one.file.path not in paths]  # fmt: skip
        if act:
            self.link.change(table).add += back
        return sum(one.file.rows for one in back)

    def history(self, table: str) -> list[TableState]:
        """See Merging."""
        states: list[TableState] = self._table(table).history()
        return states

    def old_states(self, table: str, before: float) -> Leftover:
        """See Merging."""
        found = self._table(table)
        kept, gone = found.states(before)
        files = found.files_of(gone) - found.files_of(kept)
        times = [one.timestamp_ms / 1000 for one in gone]
        loads = self._undone_no_more(table, {one.snapshot_id for one in gone})
        return Leftover(
            tuple(one.snapshot_id for one in gone), min(times, default=0.0),
            max(times, default=0.0), tuple(sorted(files)), self._bytes(files), loads,
        )  # fmt: skip

    def _undone_no_more(self, table: str, snapshots: set[int]) -> tuple[str, ...]:
        """Loads that removed rows which only those states have."""
        found = self._table(table)
        lost = []
        for note in self.link.loads(table):
            name = note.details.before
            before = found.before(name) if name else None
            if note.state == "done" and before is not None and before.snapshot in snapshots:
                lost.append(note.load_id)
        return tuple(lost)

    def strays(self, table: str, before: float) -> Leftover:
        """See Merging."""
        found = self._table(table)
        kept, gone = found.states(0.0)
        known = found.files_of([*kept, *gone]) | found.metadata_files
        known |= self._beside()
        strays = []
        for uri in self.link.storage.names(found.location):
            seen = self.link.storage.size(uri) if uri not in known else None
            if seen is not None and seen[1] < before:
                strays.append(uri)
        return Leftover((), 0.0, 0.0, tuple(strays), self._bytes(strays))

    def _beside(self) -> set[str]:
        """Files that have not come in yet, of loads and merges that may go on."""
        found: set[str] = set()
        for note in self.link.loads(None):
            if note.state == "open":
                entries = self.link.book.entries(note.load_id).values()
                found |= {file.path for entry in entries for file in entry.files}
        for uri in self.link.storage.names(f"{self.link.book.root}/merged"):
            document = json.loads(self.link.storage.read(uri) or b"{}")
            found |= {output[0] for output in document.get("outputs", ())}
        return found

    def _bytes(self, uris: Sequence[str] | set[str]) -> int:
        sizes = (self.link.storage.size(uri) for uri in uris)
        return sum(size[0] for size in sizes if size is not None)

    def remove(self, table: str, leftover: Leftover) -> None:
        """See Merging."""
        if leftover.snapshots:
            self.link.change(table).expire |= set(leftover.snapshots)
            self.link.commit()
        for uri in leftover.files:
            self.link.storage.remove(uri)

    def _table(self, table: str) -> Any:
        found = self.link.table(table)
        if found is None:
            raise RequestError(f"There is no table {table} in {self.link.place}.")
        return found


class _Again:
    """Rows of files with whose each is, that can be gone through more than once."""

    def __init__(
        self, merging: LakeMerging, files: Sequence[TableFile], columns: Sequence[LakeColumn],
        loads: dict[int, int],
    ) -> None:  # fmt: skip
        self._merging, self._files, self._columns, self._loads = merging, files, columns, loads
        # The sum of the hashes of all rows, once they were gone through.
        self.total: RowSum | None = None
        self._summed = False

    def __iter__(self) -> Iterator[Any]:
        storage = self._merging.link.storage
        total: RowSum | None = RowSum()
        first_time, self._summed = not self._summed, True
        for one in self._files:
            owners = all_owners(storage, one)
            places = np.array(
                [self._loads.setdefault(load, len(self._loads)) for load in owners.loads] or [0],
                dtype=np.uint32,
            )
            first = 0
            for rows in tables_of(storage, [one], self._columns):
                mine = places[owners.of_rows[first : first + len(rows)]]
                first += len(rows)
                if first_time and total is not None:
                    some = row_sum(rows)
                    total = None if some is None else total.plus(some)
                yield rows.append_column(OWNER, pa.array(mine, pa.uint32()))
        if first_time:
            self.total = total


def _owners(loads: dict[int, int], pieces: Sequence[Any]) -> Owners | None:
    """Whose the rows of a file are; None where nobody's."""
    of_rows = np.concatenate(pieces) if pieces else np.zeros(0, np.uint32)
    used, inverse = np.unique(of_rows, return_inverse=True)
    numbers = {place: load for load, place in loads.items()}
    mine = tuple(numbers[int(place)] for place in used)
    return None if set(mine) <= {NOBODY} else Owners(mine, inverse.astype(np.uint32))


def _seen(one: TableFile, layout: FileLayout) -> SeenFile:
    pieces = [
        f"{field.name}={shown(field, value)}"
        for field, value in zip(layout.partition, one.file.partition, strict=False)
    ]
    return SeenFile(
        one.file.path, one.file.rows, one.file.bytes, "/".join(pieces), one.added,
        one.file.partition,
    )  # fmt: skip


def _files(order: MergeOrder) -> list[TableFile]:
    return [TableFile(DataFile(one.path, one.rows, one.bytes, one.values)) for one in order.files]


def _token(inputs: Sequence[str]) -> str:
    return hashlib.sha256("\n".join(inputs).encode()).hexdigest()[:24]

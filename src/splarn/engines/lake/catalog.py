"""The catalog of a lake: tables found, made and changed through the Iceberg library."""

from __future__ import annotations

import json
import random
import secrets
import time
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

from splarn.core.errors import OutsideError, SplarnError
from splarn.core.lake.columns import LakeColumn
from splarn.core.lake.writing import DataFile, plain_path
from splarn.core.layout.file_layout import FileLayout, PartitionField, read_file_layout
from splarn.core.target.merging import TableState
from splarn.core.target.names import join_name, schema_and_name
from splarn.engines.lake import metadata
from splarn.engines.lake.changes import Before, Change, TableFile
from splarn.engines.lake.storage import Storage

# Tables without a schema in their names are in this one.
USUAL = "main"
# Keys of a table's properties: what a load is, what a table was, how files are laid out.
LOAD, BEFORE, FILES = "splarn.load.", "splarn.before.", "splarn.files"
# How often a commit is tried when others commit at the same moment.
TRIES = 40


class FilesGoneError(OutsideError):
    """Files that were to go are no longer the table's."""


class LakeTable:
    """A table as it is at one moment."""

    def __init__(self, catalog: LakeCatalog, found: Any) -> None:
        self.catalog, self.found = catalog, found

    @property
    def name(self) -> str:
        """Its name."""
        return plain_name(self.found.name())

    @property
    def columns(self) -> tuple[LakeColumn, ...]:
        """Its columns."""
        return tuple(
            LakeColumn(one.name, str(one.field_type), one.field_id, one.required)
            for one in self.found.schema().fields
        )

    @property
    def properties(self) -> dict[str, str]:
        """Its properties."""
        return dict(self.found.properties)

    @property
    def layout(self) -> FileLayout:
        """How its files are laid out."""
        usual = read_file_layout(self.properties.get(FILES, ""))
        return replace(usual, partition=self.partition)

    @property
    def partition(self) -> tuple[PartitionField, ...]:
        """How it is partitioned. Raises RequestError where that is not known here."""
        names = {one.field_id: one.name for one in self.found.schema().fields}
        return metadata.partition_of(self.found.spec(), names, self.found.name()[-1])

    @property
    def spec(self) -> int:
        """The number of how it is partitioned."""
        return int(self.found.spec().spec_id)

    @property
    def folder(self) -> str:
        """Where its files lie."""
        return str(self.found.location()).rstrip("/") + "/data"

    @property
    def snapshot(self) -> int | None:
        """What it holds now, None where it never held anything."""
        current = self.found.current_snapshot()
        return None if current is None else int(current.snapshot_id)

    def files(self, snapshot: int | None) -> list[TableFile]:
        """The files of a snapshot. Raises OutsideError where rows in them are marked as gone."""
        return [] if snapshot is None else self.catalog.files(self.found, snapshot)

    @property
    def location(self) -> str:
        """Where all that belongs to it lies."""
        return str(self.found.location()).rstrip("/")

    @property
    def metadata_files(self) -> set[str]:
        """The files of its metadata, present and past."""
        log = [one.metadata_file for one in self.found.metadata.metadata_log]
        statistics = [one.statistics_path for one in self.found.metadata.statistics]
        return {str(self.found.metadata_location), *log, *statistics}

    def states(self, before: float) -> tuple[list[Any], list[Any]]:
        """What the table holds and held that is kept, and that was over before a moment.

        What a name keeps, and what holds now, is never over.
        """
        known = list(self.found.metadata.snapshots)
        named = {one.snapshot_id for one in self.found.metadata.refs.values()}
        until = {one.parent_snapshot_id: one.timestamp_ms / 1000 for one in known}
        gone = [one for one in known if one.snapshot_id not in named
                and until.get(one.snapshot_id, one.timestamp_ms / 1000) < before]  # fmt: skip
        return [one for one in known if one not in gone], gone

    def history(self) -> list[TableState]:
        """What it held, as far as it can still be reached; oldest first."""
        names: dict[int, list[str]] = {}
        for name, reference in self.found.metadata.refs.items():
            names.setdefault(reference.snapshot_id, []).append(name)
        return [
            metadata.state_of(one, names.get(one.snapshot_id, ()), self.snapshot)
            for one in sorted(self.found.metadata.snapshots, key=lambda one: one.timestamp_ms)
        ]

    def files_of(self, snapshots: Iterable[Any]) -> set[str]:
        """All files that some of its states refer to."""
        with self.catalog.failing("Reading the files of", self.name):
            return metadata.files_known(self.found, snapshots)

    def before(self, name: str) -> Before | None:
        """The table as it was, by the name that a load gave to that."""
        kept = self.properties.get(BEFORE + name)
        return None if kept is None else Before(**json.loads(kept))


class LakeCatalog:
    """Tables by their names. All raise OutsideError where the catalog fails."""

    def __init__(self, place: str, name: str, settings: dict[str, str], storage: Storage) -> None:
        self.place, self.storage = place, storage
        self._name, self._settings = name, settings
        self._files: dict[tuple[str, int], list[TableFile]] = {}

    @cached_property
    def _file(self) -> Path | None:
        """The file of a catalog that is one."""
        kind, _, path = self._settings["uri"].partition(":///")
        return Path(path) if kind == "sqlite" else None

    @property
    def _is_missing(self) -> bool:
        """Whether there is no catalog yet. Raises OutsideError where there was one."""
        if self._file is None or self._file.exists() or "_catalog" in self.__dict__:
            return False
        if any(name.endswith(".metadata.json") for name in self.storage.names(self.storage.root)):
            raise OutsideError(
                f"The catalog {self._file} of {self.place} is gone, and there are files of tables: "
                "put it back, or name another folder."
            )
        return True

    @cached_property
    def _catalog(self) -> Any:
        with self.failing("Opening the catalog of"):
            return metadata.open_catalog(self._name, self._settings, self.storage)

    def close(self) -> None:
        """Lets go of the catalog's connection."""
        if "_catalog" in self.__dict__ and hasattr(self._catalog, "close"):
            self._catalog.close()

    def look(self) -> None:
        """Raises OutsideError where the catalog cannot be reached."""
        if self._is_missing:
            return
        with self.failing("Asking"):
            self._catalog.list_namespaces()

    def table(self, name: str) -> LakeTable | None:
        """A table, None where there is none."""
        from pyiceberg.exceptions import NoSuchNamespaceError, NoSuchTableError

        if self._is_missing:
            return None
        with self.failing("Looking for", name):
            try:
                return LakeTable(self, self._catalog.load_table(identifier(name)))
            except (NoSuchTableError, NoSuchNamespaceError):
                return None

    def names(self) -> list[str]:
        """All tables."""
        if self._is_missing:
            return []
        with self.failing("Listing the tables of"):
            found = []
            for space in self._catalog.list_namespaces():
                if len(space) == 1:
                    found += [plain_name(one) for one in self._catalog.list_tables(space)]
            return sorted(found)

    def files(self, table: Any, snapshot: int) -> list[TableFile]:
        """The files of a snapshot, which never change."""
        key = (str(table.metadata.table_uuid), snapshot)
        if key not in self._files:
            with self.failing("Reading the list of files of", plain_name(table.name())):
                self._files[key] = list(metadata.files_of(table, snapshot))
        return self._files[key]

    def commit(self, name: str, change: Change) -> None:
        """Carries a change out, whole or not at all; tried again where others were quicker.

        Raises OutsideError where files that are to go are gone already.
        """
        from pyiceberg.exceptions import CommitFailedException

        if change.create is not None and self.table(name) is None:
            # With the notes, so that nobody finds the table without them.
            self._create(name, change, *change.create)
            if not change.more_than_made:
                return
        if change.drop:
            self._drop(name)
            return
        for attempt in range(TRIES):
            table = self.table(name)
            if table is None:
                raise OutsideError(
                    f"The table {name} of {self.place} is gone: somebody removed it."
                )
            try:
                with self.failing("Changing", name, CommitFailedException):
                    self._carry_out(table, change)
                return
            except CommitFailedException:
                time.sleep(random.uniform(0.01, 0.05) * (1 + min(attempt, 10)))
        raise OutsideError(
            f"Others changed {name} of {self.place} at every moment at which it was to be changed: "
            "nothing was committed; run the same command again."
        )

    def _create(
        self, name: str, change: Change, columns: tuple[LakeColumn, ...], layout: FileLayout
    ) -> None:
        from pyiceberg.exceptions import NamespaceAlreadyExistsError, TableAlreadyExistsError

        space, bare = identifier(name)
        with self.failing("Making", name):
            with suppress(NamespaceAlreadyExistsError):
                self._catalog.create_namespace((space,))
            schema = metadata.schema_of(columns)
            try:
                self._catalog.create_table(
                    (space, bare), schema, location=change.location,
                    partition_spec=metadata.spec_of(layout, columns),
                    sort_order=metadata.order_of(layout, columns),
                    properties={FILES: layout.text(), **change.properties},
                )  # fmt: skip
            except TableAlreadyExistsError:
                raise OutsideError(
                    f"Somebody made {name} in {self.place} at the same moment: run the same "
                    "command again."
                ) from None

    def new_location(self, name: str) -> str:
        """Where a new table's files are to lie: never where those of another of its name were."""
        space, bare = (plain_path(piece) for piece in identifier(name))
        return f"{self.storage.root}/{space}/{bare}-{secrets.token_hex(4)}"

    def _drop(self, name: str) -> None:
        table = self.table(name)
        if table is None:
            return
        with self.failing("Removing", name):
            self._catalog.drop_table(identifier(name))
        location = str(table.found.location())
        if location.startswith(f"{self.storage.root}/"):
            self.storage.remove_all(location)

    def _carry_out(self, table: LakeTable, change: Change) -> None:
        found = table.found
        for key, value in change.seen.items():
            if table.properties.get(key) != value:
                raise OutsideError(
                    f"Another loader is at work on {key.removeprefix(LOAD)} in {self.place}: what "
                    "is noted of it changed meanwhile, so nothing was committed; run the same "
                    "command again."
                )
        # We try again ourselves, and look before we do.
        found.metadata.properties["commit.retry.num-retries"] = "0"
        transaction = found.transaction()
        keep = {
            name: Before(table.snapshot, found.schema().schema_id, table.spec, self._rows(table))
            for name in change.keep
        }
        for name, before in keep.items():
            if before.snapshot is not None:
                metadata.tag(transaction, name, before.snapshot)
        if change.back is not None:
            metadata.go_back(transaction, change.back, table.snapshot)
        if change.anew is not None:
            metadata.renew(transaction, change.anew.columns, change.anew.layout)
        if change.files_change:
            self._change_files(table, transaction, change)
        for name in change.let_go:
            metadata.untag(transaction, name)
        properties = {
            **change.properties,
            **{BEFORE + name: json.dumps(one.__dict__) for name, one in keep.items()},
        }
        if change.anew is not None:
            properties[FILES] = change.anew.layout.text()
        if change.expire:
            metadata.expire(transaction, change.expire)
        if properties:
            transaction.set_properties(properties)
        there = table.properties
        dropped = [BEFORE + name for name in change.let_go] + [LOAD + i for i in change.forgotten]
        dropped = [name for name in dropped if name in there]
        if dropped:
            transaction.remove_properties(*dropped)
        transaction.commit_transaction()
        self._settle(found)

    def _settle(self, found: Any) -> None:
        """Makes the metadata safe that a commit has written."""
        snapshot = found.metadata.current_snapshot()
        uris = [str(found.metadata_location)]
        if snapshot is not None:
            uris.append(str(snapshot.manifest_list))
            uris += [str(one.manifest_path) for one in snapshot.manifests(found.io)
                     if one.added_snapshot_id == snapshot.snapshot_id]  # fmt: skip
        self.storage.settle(uri for uri in uris if uri.startswith("file:"))

    def _rows(self, table: LakeTable) -> int:
        return sum(one.file.rows for one in table.files(table.snapshot))

    def _change_files(self, table: LakeTable, transaction: Any, change: Change) -> None:
        there = {one.file.path: one for one in table.files(table.snapshot)}
        gone = set(there) if change.empties else change.remove
        missing = gone - set(there)
        twice = [one.file.path for one in change.add if one.file.path in set(there) - gone]
        if twice:
            raise OutsideError(
                f"{twice[0]} is in the table already: another loader brought it in meanwhile, so "
                "nothing was committed; run the same command again."
            )
        if missing:
            raise FilesGoneError(
                f"{sorted(missing)[0]} is no file of the table any more: somebody else has changed "
                "it, so nothing was done; run the same command again."
            )
        added = [one.known for one in change.add if one.known is not None]
        new = [one.file for one in change.add if one.known is None]
        schema, spec = transaction.table_metadata.schema(), transaction.table_metadata.spec()
        with ThreadPoolExecutor(8) as pool:
            added += pool.map(lambda one: self._described(one, schema, spec, transaction), new)
        update = transaction.update_snapshot(snapshot_properties=change.summary)
        with update.overwrite() if gone else update.fast_append() as snapshot:
            for path in gone:
                snapshot.delete_data_file(there[path].known)
            for one in added:
                snapshot.append_data_file(one)

    def _described(self, file: DataFile, schema: Any, spec: Any, transaction: Any) -> Any:
        """A new file as the table's metadata have it, by what its own end says of it."""
        source = self.storage.open(file.path)
        try:
            return metadata.described(file, source, schema, spec, transaction.table_metadata)
        finally:
            source.close()

    @contextmanager
    def failing(self, doing: str, what: str = "", *told: type[BaseException]) -> Iterator[None]:
        """Turns the library's errors into one sentence; those that are `told` pass."""
        try:
            yield
        except SplarnError:
            raise
        except Exception as error:
            if isinstance(error, told):
                raise
            raise OutsideError(
                f"{doing} {what + ' of ' if what else ''}{self.place} failed: "
                f"{metadata.reason(error)}."
            ) from error


def identifier(name: str) -> tuple[str, str]:
    """The namespace and the name of a table."""
    space, bare = schema_and_name(name)
    return space or USUAL, bare


def plain_name(found: tuple[str, ...]) -> str:
    """The reverse, as tables are written."""
    space, bare = found[0], found[-1]
    return join_name(None if space == USUAL else space, bare)

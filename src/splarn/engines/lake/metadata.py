"""Metadata of Iceberg tables, in the library's own forms."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.columns import LakeColumn
from splarn.core.lake.writing import DataFile
from splarn.core.layout.file_layout import FileLayout, PartitionField
from splarn.core.target.merging import TableState
from splarn.engines.lake.changes import Before, TableFile
from splarn.engines.lake.storage import Storage, be_plain, local_path

# What somebody else did, in words.
OPERATIONS = {
    "append": "added",
    "overwrite": "changed",
    "delete": "removed",
    "replace": "rewritten",
}


def open_catalog(name: str, settings: dict[str, str], storage: Storage) -> Any:
    """A catalog by its settings; `uri` of sqlite or http tells which kind."""
    store = store_settings() if not storage.local else {}
    common = {"warehouse": storage.root, **store, **settings}
    if settings["uri"].startswith("sqlite"):
        from pyiceberg.catalog.sql import SqlCatalog

        local_path(settings["uri"].removeprefix("sqlite:///")).parent.mkdir(
            parents=True, exist_ok=True
        )
        return SqlCatalog(name, **common)
    from pyiceberg.catalog.rest import RestCatalog

    return RestCatalog(name, **common)


def store_settings() -> dict[str, str]:
    """How the library reaches a store of the S3 protocol: as Splarn does, by the environment."""
    be_plain()
    named = {
        "s3.endpoint": "AWS_ENDPOINT_URL", "s3.access-key-id": "AWS_ACCESS_KEY_ID",
        "s3.secret-access-key": "AWS_SECRET_ACCESS_KEY", "s3.session-token": "AWS_SESSION_TOKEN",
        "s3.region": "AWS_REGION",
    }  # fmt: skip
    found = {key: os.environ[variable] for key, variable in named.items() if variable in os.environ}
    found.setdefault("s3.region", os.environ.get("AWS_DEFAULT_REGION", "us-east-1"))
    return {"py-io-impl": "pyiceberg.io.pyarrow.PyArrowFileIO", **found}


def schema_of(columns: Sequence[LakeColumn], number: int = 0) -> Any:
    """Columns as a schema."""
    from pyiceberg.schema import Schema

    return Schema(*(_nested(one) for one in columns), schema_id=number)


def _nested(column: LakeColumn) -> Any:
    from pyiceberg.types import NestedField

    return NestedField(column.number, column.name, _type(column.type), required=column.required)


def _type(text: str) -> Any:
    from pyiceberg import types

    if text.startswith("decimal"):
        precision, scale = text.removeprefix("decimal(").rstrip(")").split(",")
        return types.DecimalType(int(precision), int(scale))
    return {
        "boolean": types.BooleanType(), "int": types.IntegerType(), "long": types.LongType(),
        "float": types.FloatType(), "double": types.DoubleType(), "date": types.DateType(),
        "time": types.TimeType(), "timestamp": types.TimestampType(),
        "timestamptz": types.TimestamptzType(), "string": types.StringType(),
        "binary": types.BinaryType(),
    }[text]  # fmt: skip


def spec_of(
    layout: FileLayout, columns: Sequence[LakeColumn], first: int = 1000, number: int = 0
) -> Any:
    """How a table is partitioned, its fields numbered from `first` on."""
    from pyiceberg import partitioning, transforms

    numbers = {one.name: one.number for one in columns}
    made = []
    for place, field in enumerate(layout.partition, first):
        transform: Any = {
            "value": transforms.IdentityTransform, "year": transforms.YearTransform,
            "month": transforms.MonthTransform, "day": transforms.DayTransform,
            "hour": transforms.HourTransform,
        }.get(field.transform, transforms.IdentityTransform)()  # fmt: skip
        if field.transform == "bucket":
            transform = transforms.BucketTransform(field.buckets)
        made.append(
            partitioning.PartitionField(numbers[field.column], place, transform, field.name)
        )
    return partitioning.PartitionSpec(*made, spec_id=number)


def order_of(layout: FileLayout, columns: Sequence[LakeColumn], number: int = 1) -> Any:
    """The order that a table's files have."""
    from pyiceberg.table import sorting
    from pyiceberg.transforms import IdentityTransform

    numbers = {one.name: one.number for one in columns}
    fields = [
        sorting.SortField(numbers[name], IdentityTransform(), sorting.SortDirection.ASC)
        for name in layout.sort
    ]
    if not fields:
        return sorting.UNSORTED_SORT_ORDER
    return sorting.SortOrder(*fields, order_id=number)


def partition_of(spec: Any, names: Mapping[int, str], table: str) -> tuple[PartitionField, ...]:
    """How a table is partitioned. Raises RequestError where that is not known here."""
    words = {"identity": "value", "year": "year", "month": "month", "day": "day", "hour": "hour"}
    found = []
    for field in spec.fields:
        text = str(field.transform)
        if text == "void":
            continue
        if text.startswith("bucket["):
            found.append(PartitionField("bucket", names[field.source_id], int(text[7:-1])))
        elif text in words:
            found.append(PartitionField(words[text], names[field.source_id]))
        else:
            raise RequestError(
                f"The table {table} is partitioned by {text} of {names[field.source_id]}, which is "
                "not known here: nothing can be loaded into it."
            )
    return tuple(found)


def files_of(table: Any, snapshot: int) -> Iterator[TableFile]:
    """The files of a snapshot. Raises OutsideError where rows in them are marked as gone."""
    from pyiceberg.manifest import DataFileContent

    times = {one.snapshot_id: one.timestamp_ms / 1000 for one in table.metadata.snapshots}
    for manifest in table.snapshot_by_id(snapshot).manifests(table.io):
        for entry in manifest.fetch_manifest_entry(table.io, discard_deleted=True):
            one = entry.data_file
            if one.content != DataFileContent.DATA:
                raise OutsideError(
                    f"Rows of {table.name()[-1]} are marked as gone in files of their own "
                    f"({one.file_path}), which somebody else wrote: let that program rewrite the "
                    "table's files first."
                )
            values = tuple(plain_value(value) for value in _values(one.partition))
            size, rows = int(one.file_size_in_bytes), int(one.record_count)
            added = times.get(entry.snapshot_id, 0.0)
            yield TableFile(DataFile(str(one.file_path), rows, size, values), one, added)


def _values(record: Any) -> list[Any]:
    return [record[place] for place in range(len(record))]


def plain_value(value: Any) -> Any:
    """A partition's value as documents keep it."""
    return str(value) if isinstance(value, Decimal) else value


def described(file: DataFile, source: Any, schema: Any, spec: Any, table: Any) -> Any:
    """A new file as the metadata have it, by what its own end says of it.

    Raises OutsideError where it holds other rows than were noted.
    """
    import pyarrow.parquet as pq
    from pyiceberg.io import pyarrow as library
    from pyiceberg.manifest import DataFile as Described
    from pyiceberg.manifest import DataFileContent, FileFormat
    from pyiceberg.typedef import Record

    end = pq.read_metadata(source)
    if end.num_rows != file.rows or source.size() != file.bytes:
        raise OutsideError(
            f"{file.path} holds {end.num_rows:,} rows in {source.size():,} bytes, and "
            f"{file.rows:,} in {file.bytes:,} were written: somebody changed it, so nothing was "
            "committed."
        )
    told = library.data_file_statistics_from_parquet_metadata(
        end, library.compute_statistics_plan(schema, table.properties),
        library.parquet_path_to_id_mapping(schema),
    )  # fmt: skip
    kinds = [str(schema.find_field(field.source_id).field_type) for field in spec.fields]
    values = [
        Decimal(str(value)) if value is not None and kind.startswith("decimal")
        and str(field.transform) == "identity" else value
        for value, kind, field in zip(file.partition, kinds, spec.fields, strict=True)
    ]  # fmt: skip
    return Described.from_args(
        content=DataFileContent.DATA, file_path=file.path, file_format=FileFormat.PARQUET,
        partition=Record(*values), file_size_in_bytes=file.bytes, sort_order_id=None,
        spec_id=spec.spec_id, equality_ids=None, key_metadata=None, **told.to_serialized_dict(),
    )  # fmt: skip


def _apply(transaction: Any, updates: Sequence[dict[str, Any]], base: Any = ...) -> None:
    """Adds updates to a transaction, in the forms of the REST catalog specification.

    With `base` only where that is still what the table holds.
    """
    from pydantic import TypeAdapter
    from pyiceberg.table.update import TableRequirement, TableUpdate

    needs: tuple[Any, ...] = ()
    if base is not ...:
        wanted = {"type": "assert-ref-snapshot-id", "ref": "main", "snapshot-id": base}
        needs = (TypeAdapter[Any](TableRequirement).validate_python(wanted),)
    reader = TypeAdapter[Any](TableUpdate)
    transaction._apply(tuple(reader.validate_python(one) for one in updates), needs)


def _reference(name: str, kind: str, snapshot: int | None) -> dict[str, Any]:
    if snapshot is None:
        return {"action": "remove-snapshot-ref", "ref-name": name}
    return {
        "action": "set-snapshot-ref", "ref-name": name, "type": kind, "snapshot-id": snapshot,
    }  # fmt: skip


def tag(transaction: Any, name: str, snapshot: int) -> None:
    """Keeps a snapshot by a name, until it is let go."""
    _apply(transaction, [_reference(name, "tag", snapshot)])


def untag(transaction: Any, name: str) -> None:
    """Lets a snapshot go that was kept."""
    if name in transaction.table_metadata.refs:
        _apply(transaction, [_reference(name, "tag", None)])


def go_back(transaction: Any, before: Before, snapshot: int | None) -> None:
    """Makes the table what it was; only where it is still at `snapshot`."""
    updates = [
        {"action": "set-current-schema", "schema-id": before.schema},
        {"action": "set-default-spec", "spec-id": before.spec},
    ]
    if snapshot is not None or before.snapshot is not None:
        updates.append(_reference("main", "branch", before.snapshot))
    _apply(transaction, updates, snapshot)


def expire(transaction: Any, snapshots: Iterable[int]) -> None:
    """Forgets states of the table."""
    _apply(transaction, [{"action": "remove-snapshots", "snapshot-ids": sorted(snapshots)}])


def files_known(table: Any, snapshots: Iterable[Any]) -> set[str]:
    """All files that some snapshots refer to."""
    found: set[str] = set()
    for snapshot in snapshots:
        found.add(str(snapshot.manifest_list))
        for manifest in snapshot.manifests(table.io):
            if manifest.manifest_path not in found:
                found.add(str(manifest.manifest_path))
                entries = manifest.fetch_manifest_entry(table.io, discard_deleted=True)
                found |= {str(entry.data_file.file_path) for entry in entries}
    return found


def state_of(snapshot: Any, names: Sequence[str], now: int | None) -> TableState:
    """What a snapshot's own summary says of it."""
    told = dict(snapshot.summary.additional_properties) if snapshot.summary else {}
    loads = tuple(one for one in told.get("splarn.loads", "").split(",") if one)
    operation = str(snapshot.summary.operation.value) if snapshot.summary else ""
    what = told.get("splarn.what") or OPERATIONS.get(operation, operation)
    rows, files, size = (
        int(told.get(key, 0)) for key in ("total-records", "total-data-files", "total-files-size")
    )
    kept = tuple(sorted(name for name in names if name != "main"))
    return TableState(
        int(snapshot.snapshot_id), snapshot.timestamp_ms / 1000, what, loads, rows, files, size,
        kept, snapshot.snapshot_id == now,
    )  # fmt: skip


def renew(transaction: Any, columns: Sequence[LakeColumn], layout: FileLayout) -> None:
    """Gives the table other columns and another layout; rows from before are not of them."""
    known = transaction.table_metadata
    first = (known.last_partition_id or 999) + 1
    schema = max(one.schema_id for one in known.schemas) + 1
    spec = max(one.spec_id for one in known.partition_specs) + 1
    updates = [
        {"action": "add-schema", "schema": schema_of(columns, schema)},
        {"action": "set-current-schema", "schema-id": schema},
        {"action": "add-spec", "spec": spec_of(layout, columns, first, spec)},
        {"action": "set-default-spec", "spec-id": spec},
    ]
    orders = [one.order_id for one in known.sort_orders]
    order = max(orders, default=0) + 1 if layout.sort else 0
    if order not in orders:
        ordered = order_of(layout, columns, order)
        updates.append({"action": "add-sort-order", "sort-order": ordered})
    updates.append({"action": "set-default-sort-order", "sort-order-id": order})
    _apply(transaction, updates)


def reason(error: BaseException) -> str:
    """What the library says, as the end of a sentence."""
    text = " ".join(str(error).split()) or type(error).__name__
    return text[:300].rstrip(".")

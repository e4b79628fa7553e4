"""What parts are to be: format, packing, order, and the layout they read by."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.codecs import Packing
from splarn.core.errors import RequestError
from splarn.core.layout import LINES, Dialect, Field, Layout
from splarn.core.reading.convert import convert_value
from splarn.core.text import value_text

ROW_GROUP = 131_072
# More folders from one part speak of a field that nobody partitions by.
MOST_PARTITIONS = 1000
STEPS = ("year", "month", "day")


@dataclass(frozen=True)
class Key:
    """A field to sort or partition by. `step` is a date's year, month or day, or empty."""

    field: str
    step: str = ""
    descending: bool = False


@dataclass(frozen=True)
class Output:
    """How parts are written.

    `part_bytes` are unpacked bytes of the source; `part_rows`, when not 0, counts records instead.
    Rows are sorted within each part. `row_group_rows` and `dictionary` are Parquet's.
    """

    format: str
    packing: Packing
    part_bytes: int
    part_rows: int = 0
    header: bool = False
    row_group_rows: int = ROW_GROUP
    dictionary: bool = True
    sort_by: tuple[Key, ...] = ()
    partition_by: tuple[Key, ...] = ()

    def is_copy(self, layout: Layout) -> bool:
        """Whether parts hold the source's bytes as they are, so that nothing need be typed."""
        same = self.format == layout.format and self.format != "parquet"
        return same and not self.sort_by and not self.partition_by

    def layout(self, source: Layout) -> Layout:
        """The layout that the parts read by."""
        if self.is_copy(source):
            return replace(source, dialect=replace(source.dialect, header=self.header))
        fields = tuple(_plain_field(field) for field in source.fields)
        dialect = LINES
        if self.format == "csv":
            mark = source.dialect.delimiter if source.format == "csv" else ","
            dialect = Dialect(delimiter="," if mark == '"' else mark, header=self.header)
        return Layout(source.name, dialect, fields, self.format)


def _plain_field(field: Field) -> Field:
    """The field as converted parts have it: written in the standard form."""

    def value(text: str | None) -> str | None:
        if text is None:
            return None
        found = convert_value(text, field)
        if found is None:
            raise RequestError(
                f"The limit {text!r} of field {field.name!r} is no {field.describe()}: mend the "
                "layout."
            )
        return str(value_text(pa.array([found.as_py()], field.arrow_type()))[0].as_py())

    return replace(
        field,
        format=field.format if field.is_uuid else "default",
        true_values=(),
        false_values=(),
        minimum=value(field.minimum),
        maximum=value(field.maximum),
        enum=None if field.enum is None else tuple(str(value(text)) for text in field.enum),
    )


def parse_keys(text: str, layout: Layout, partition: bool) -> tuple[Key, ...]:
    """Reads `lock_code,entered:month` or, for sorting, `entered,toll:desc`.

    Raises RequestError for a field that is not there or a step that its type does not have.
    """
    fields = {field.name: field for field in layout.fields}
    keys: list[Key] = []
    for piece in text.split(","):
        name, _, step = piece.strip().rpartition(":") if ":" in piece else (piece.strip(), "", "")
        field = fields.get(name)
        if field is None:
            raise RequestError(
                f"There is no field {name!r} to go by: the layout has {', '.join(fields)}."
            )
        if not partition:
            if step not in ("", "asc", "desc"):
                raise RequestError(f"Sorting {name} cannot go by {step!r}: use asc or desc.")
            keys.append(Key(name, "", step == "desc"))
        elif step and (step not in STEPS or field.type not in ("date", "datetime")):
            raise RequestError(
                f"{name} cannot be partitioned by {step!r}: a date or datetime has year, month "
                "and day."
            )
        elif step:
            keys += [Key(name, each) for each in STEPS[: STEPS.index(step) + 1]]
        else:
            keys.append(Key(name))
    return tuple(keys)


def sorted_rows(table: Any, keys: tuple[Key, ...]) -> Any:
    """The rows in order of the keys."""
    if not keys:
        return table
    return table.sort_by(
        [(key.field, "descending" if key.descending else "ascending") for key in keys]
    )


def partitions(table: Any, keys: tuple[Key, ...]) -> list[tuple[str, Any]]:
    """Sub-folder and rows of each partition, in order of first appearance.

    Raises RequestError when there are more than anyone wants.
    """
    if not keys:
        return [("", table)]
    columns = [_folder_names(table.column(key.field), key) for key in keys]
    folders = pc.binary_join_element_wise(*columns, "/")
    encoded = pc.dictionary_encode(folders.combine_chunks())
    if isinstance(encoded, pa.ChunkedArray):
        encoded = encoded.combine_chunks()
    names = encoded.dictionary.to_pylist()
    if len(names) > MOST_PARTITIONS:
        raise RequestError(
            f"Partitioning by {', '.join(key.field for key in keys)} makes {len(names):,} folders "
            "out of one part: choose a field with fewer values, or a coarser step."
        )
    return [
        (name, table.filter(pc.equal(encoded.indices, number))) for number, name in enumerate(names)
    ]


def _folder_names(column: Any, key: Key) -> Any:
    """`field=value` of each row, ready for a path; a null has no value."""
    if key.step:
        number = getattr(pc, key.step)(column).cast(pa.string())
        text = pc.utf8_lpad(number, 4 if key.step == "year" else 2, "0")
        name = key.step
    else:
        text, name = value_text(column), key.field
        safe = pc.match_substring_regex(text, "^[A-Za-z0-9_.-]+$")
        if not pc.all(safe).as_py():
            distinct = pc.unique(text).drop_null().to_pylist()
            mapped = pa.array([re.sub(r"^\.", "%2E", quote(value, safe="")) for value in distinct])
            index = pc.index_in(text, pa.array(distinct, pa.string()))
            text = mapped.take(
                index.combine_chunks() if isinstance(index, pa.ChunkedArray) else index
            )
    return pc.binary_join_element_wise(
        f"{quote(name, safe='')}=", text, "", null_handling="replace", null_replacement=""
    )

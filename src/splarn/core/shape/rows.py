"""Typed rows on their way into parts: fields in the standard form, order and folders."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any
from urllib.parse import quote

import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.layout.fields import BARE
from splarn.core.reading.convert import convert_value
from splarn.core.reading.text import value_text
from splarn.core.shape.keys import Key

# More folders from one part speak of a field that nobody partitions by.
MOST_PARTITIONS = 1000


def plain_field(field: Field) -> Field:
    """The field as converted parts have it: written in the standard form."""

    def value(text: str | None) -> str | None:
        if text is None:
            return None
        converted = convert_value(text, field)
        if converted is None:
            raise RequestError(
                f"The limit {text!r} of field {field.name!r} is no {field.describe()}: mend the "
                "layout."
            )
        return str(value_text(pa.array([converted.as_py()], field.arrow_type()))[0].as_py())

    return replace(
        field,
        format=field.format if field.is_uuid else "default",
        true_values=(),
        false_values=(),
        null_markers=None,
        **BARE,
        minimum=value(field.minimum),
        maximum=value(field.maximum),
        enum=None if field.enum is None else tuple(str(value(text)) for text in field.enum),
    )


def sorted_rows(table: Any, keys: tuple[Key, ...]) -> Any:
    """The rows in order of the keys."""
    if not keys:
        return table
    return table.sort_by(
        [(key.field, "descending" if key.descending else "ascending") for key in keys]
    )


def partitions(table: Any, keys: tuple[Key, ...]) -> list[tuple[str, Any]]:
    """Sub-folder and rows of each partition, sorted by folder.

    Raises RequestError when there are more than anyone wants.
    """
    if not keys:
        return [("", table)]
    columns = [_folder_names(table.column(key.field), key) for key in keys]
    folders = pc.binary_join_element_wise(*columns, "/")
    if isinstance(folders, pa.ChunkedArray):
        folders = folders.combine_chunks()
    encoded = folders.dictionary_encode()
    names = encoded.dictionary.to_pylist()
    if len(names) > MOST_PARTITIONS:
        raise RequestError(
            f"Partitioning by {', '.join(key.field for key in keys)} makes {len(names):,} folders "
            "out of one part: choose a field with fewer values, or a coarser step."
        )
    return [
        (name, table.filter(pc.equal(encoded.indices, number)))
        for name, number in sorted(zip(names, range(len(names)), strict=True))
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

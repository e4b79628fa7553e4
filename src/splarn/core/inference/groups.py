"""A delivery of several layouts, grouped by what each file's head says of its columns."""

from __future__ import annotations

from collections.abc import Sequence

from splarn.core.inference.samples import SampledText
from splarn.core.inference.text_form import judge_text
from splarn.core.records.scanning import BOM
from splarn.core.source.source import HEAD, Source

Key = tuple[object, ...]


def grouped(sources: Sequence[Source]) -> list[list[Source]]:
    """Files of one kind together, the kind with the most bytes first.

    Delimited files are of one kind when they have the same delimiter and the same names, in
    whatever order, or as many columns where they have no header.
    Raises OutsideError when a file cannot be read.
    """
    known: dict[bytes, Key] = {}
    groups: dict[Key, list[Source]] = {}
    for source in sources:
        first = b"\n".join(source.head.split(b"\n", 3)[:3])
        key = known.get(first) or _key(source)
        known[first] = key
        groups.setdefault(key, []).append(source)
    empty = groups.pop(("empty",), [])
    by_size = sorted(groups.values(), key=lambda group: -sum(source.size for source in group))
    if empty and by_size:
        # A file of nothing has no kind of its own.
        by_size[0] += empty
    return by_size or [empty]


def _key(source: Source) -> Key:
    if not source.head.strip(b"\r\n\t \0"):
        return ("empty",)
    if source.format == "parquet":
        from splarn.core.reading.columnar import open_parquet

        with open_parquet(source.place) as file:
            return ("parquet", *file.schema_arrow.names)
    if source.format != "csv":
        return (source.format,)
    whole = source.packing == "none" and source.size <= HEAD
    form = judge_text([SampledText(source, source.head.removeprefix(BOM), True, whole, whole)])
    if form.dialect.header:
        return ("csv", form.dialect.delimiter, frozenset(form.names))
    return ("csv", form.dialect.delimiter, form.width)

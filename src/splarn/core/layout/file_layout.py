"""How a table's rows lie in files: partitions, order, codec and size, as people write them.

A layout is words in any order, as `month(taken) sort(gauge taken) zstd(6) 128MiB rows(100000)`;
`plain` is none of them.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.units import exact_size, parse_size
from splarn.core.work.words import nearest

PLAIN = "plain"
# The transforms of the Iceberg table specification that are known here, by our words for them.
TRANSFORMS = ("value", "year", "month", "day", "hour", "bucket")
CODECS = {"zstd": (1, 22), "gzip": (1, 9), "brotli": (0, 11), "snappy": None, "lz4": None,
          "none": None}  # fmt: skip
_WORD = re.compile(r"\s*([\w.]+)\s*(?:\(([^()]*)\))?\s*[,;]?")


@dataclass(frozen=True)
class PartitionField:
    """One field by which rows are kept apart: of what column, by what `transform` of its values.

    `buckets` is how many hashes there are, 0 for other transforms.
    """

    transform: str
    column: str
    buckets: int = 0

    def text(self) -> str:
        """As people write it."""
        more = f" {self.buckets}" if self.buckets else ""
        return f"{self.transform}({self.column}{more})"

    @property
    def name(self) -> str:
        """How the field is called in the table."""
        return self.column if self.transform == "value" else f"{self.column}_{self.transform}"


@dataclass(frozen=True)
class FileLayout:
    """How rows lie in files; `file_bytes` is what a file grows to, `group_rows` what its row groups
    hold at most. Without a `level` the codec has its own."""

    partition: tuple[PartitionField, ...] = ()
    sort: tuple[str, ...] = ()
    codec: str = "zstd"
    level: int | None = None
    file_bytes: int = 128 << 20
    group_rows: int = 1 << 18

    def text(self) -> str:
        """As people write it, what is usual left out."""
        usual = FileLayout()
        words = [field.text() for field in self.partition]
        if self.sort:
            words.append(f"sort({' '.join(self.sort)})")
        if (self.codec, self.level) != (usual.codec, usual.level):
            words.append(self.codec if self.level is None else f"{self.codec}({self.level})")
        if self.file_bytes != usual.file_bytes:
            words.append(exact_size(self.file_bytes).replace(" ", ""))
        if self.group_rows != usual.group_rows:
            words.append(f"rows({self.group_rows})")
        return " ".join(words) or PLAIN

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that it names."""
        return (*(field.column for field in self.partition), *self.sort)


def read_file_layout(text: str) -> FileLayout:
    """What a person wrote. Raises RequestError for a word that is not known or does not fit."""
    made = FileLayout()
    if text.strip() in ("", PLAIN):
        return made
    if text.count("(") != text.count(")"):
        raise RequestError(
            f"The layout of files {text!r} opens a bracket that it does not close, or the other "
            "way round."
        )
    at = 0
    while at < len(text.rstrip()):
        word = _WORD.match(text, at)
        if word is None or word.end() == at:
            raise RequestError(
                f"The layout of files {text!r} cannot be read from {text[at:].strip()!r} on: write "
                "words such as month(taken) sort(gauge) zstd(6) 128MiB."
            )
        made = _with(made, word[1], re.split(r"[,\s]+", (word[2] or "").strip()), word[2])
        at = word.end()
    names = [field.name for field in made.partition]
    if len(set(names)) < len(names) or len(set(made.sort)) < len(made.sort):
        raise RequestError(f"The layout of files {text!r} names something twice: leave one out.")
    return made


def _with(made: FileLayout, word: str, arguments: list[str], given: str | None) -> FileLayout:
    lowered = word.lower()
    if lowered in TRANSFORMS:
        return replace(made, partition=(*made.partition, _partition(lowered, arguments)))
    if lowered == "sort":
        if not all(arguments):
            raise RequestError("sort() names no column: write it like sort(gauge, taken).")
        return replace(made, sort=tuple(arguments))
    if lowered == "rows":
        return replace(made, group_rows=_whole(f"rows({given or ''})", arguments, 100))
    if lowered in CODECS:
        levels = CODECS[lowered]
        if given is None:
            return replace(made, codec=lowered, level=None)
        if levels is None:
            raise RequestError(f"The codec {lowered} of Parquet files has no levels: leave it out.")
        level = _whole(f"{lowered}({given})", arguments, levels[0])
        if level > levels[1]:
            raise RequestError(f"{lowered} has no level {level}: it goes to {levels[1]}.")
        return replace(made, codec=lowered, level=level)
    if word[:1].isdigit() and given is None:
        size = parse_size(word)
        if size < 1 << 12:
            raise RequestError(f"Files of {word} are too small: give 4KiB or more.")
        return replace(made, file_bytes=size)
    known = [*TRANSFORMS, "sort", "rows", *CODECS]
    raise RequestError(
        f"{word!r} is no word of a layout of files{nearest(lowered, known)}: use "
        f"{', '.join(known)}, or a size."
    )


def _partition(transform: str, arguments: list[str]) -> PartitionField:
    buckets = 0
    if transform == "bucket":
        if len(arguments) == 2:
            buckets = _whole(f"bucket({', '.join(arguments)})", arguments[1:], 1)
        arguments = arguments[:1] if buckets else ["", ""]
    if len(arguments) != 1 or not arguments[0]:
        example = "bucket(gauge, 16)" if transform == "bucket" else f"{transform}(taken)"
        raise RequestError(f"{transform}() is written like {example}.")
    return PartitionField(transform, arguments[0], buckets)


def _whole(written: str, arguments: Sequence[str], least: int) -> int:
    if len(arguments) != 1 or not arguments[0].isdigit() or int(arguments[0]) < least:
        raise RequestError(f"{written} wants one whole number of {least} or more.")
    return int(arguments[0])


def check_columns(layout: FileLayout, fields: Sequence[Field]) -> None:
    """Raises RequestError where a column is not there, or its values have no such part."""
    known = {field.name: field for field in fields}
    for name in layout.columns:
        if name not in known:
            raise RequestError(
                f"The layout of files names {name}, which is no field"
                f"{nearest(name, list(known))}: there are {', '.join(known)}."
            )
    for one in layout.partition:
        field = known[one.column]
        if one.transform in ("year", "month", "day") and field.type not in ("date", "datetime"):
            raise RequestError(
                f"{one.text()}: {one.column} is a {field.type} and has no {one.transform}; use "
                f"value({one.column}) or bucket({one.column}, 16)."
            )
        if one.transform == "hour" and field.type != "datetime":
            raise RequestError(f"{one.text()}: {one.column} is a {field.type} and has no hours.")
        floating = field.type == "number" and not field.is_decimal
        if floating or (one.transform == "bucket" and field.type == "boolean"):
            raise RequestError(
                f"{one.text()}: a {'float' if floating else 'boolean'} makes no partitions that "
                "can be relied on; choose another column."
            )

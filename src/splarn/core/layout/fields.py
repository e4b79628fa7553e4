"""Fields and the layout they make up, with the Arrow types they are read into."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.layout.dialect import Dialect

if TYPE_CHECKING:
    import pyarrow as pa

FIELD_TYPES = (
    "integer", "number", "boolean", "date", "datetime", "time", "string", "object", "array", "any",
)  # fmt: skip
FORMATS = ("csv", "jsonl", "parquet")
BITS = (16, 32, 64)
# Moments that name their zone; they are stored in UTC.
INSTANT = "%Y-%m-%dT%H:%M:%S%z"
# Whole numbers that count from the beginning of 1970, in UTC.
EPOCHS = {"epoch": 1_000_000, "epoch-ms": 1_000, "epoch-us": 1}
# Numbers that are written as lengths of time, such as 26:15:00 or PT1H30M, in seconds.
DURATION = "duration"
ISO_PATTERNS = ("default", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d", "%H:%M:%S")


@dataclass(frozen=True)
class Field:
    """One field of a record, after the Table Schema standard.

    `precision` and `scale` make a `number` an exact decimal; without them it is a float.
    `bits` is an integer's width. `format` is `default`, for dates and times the ISO 8601 form, or
    else a strptime pattern; for a string it may be `uuid`. An `object` or an `array` is JSON text;
    `any` is text as it is, or any other JSON value as its text. A number whose `format` is
    `duration` is written as a length of time and kept in seconds. `true_values` and
    `false_values` are what a boolean is written as where not true and false.
    `minimum`, `maximum` and `enum` are written as values of the field are in the files; lengths
    count characters; `pattern` is a regular expression that the whole value must match; `unique` is
    over all files. `null_markers` are what stands for no value in this field, None for what does
    in all. A number may have other marks for decimals and groups, signs around it where it is not
    `bare_number` (only that one where a `sign` is named), and `brackets` when it is below zero.

    Raises RequestError for a field that cannot be read.
    """

    name: str
    type: str = "string"
    format: str = "default"
    required: bool = False
    precision: int | None = None
    scale: int | None = None
    unique: bool = False
    minimum: str | None = None
    maximum: str | None = None
    enum: tuple[str, ...] | None = None
    min_length: int | None = None
    max_length: int | None = None
    pattern: str | None = None
    bits: int = 64
    true_values: tuple[str, ...] = ()
    false_values: tuple[str, ...] = ()
    null_markers: tuple[str, ...] | None = None
    decimal_char: str = "."
    group_char: str = ""
    bare_number: bool = True
    sign: str | None = None
    brackets: bool = False

    def __post_init__(self) -> None:
        if self.type not in FIELD_TYPES:
            raise RequestError(
                f"Field {self.name!r} has the unknown type {self.type!r}: "
                f"use one of {', '.join(FIELD_TYPES)}."
            )
        if self.bits not in BITS:
            raise RequestError(
                f"Field {self.name!r} cannot have {self.bits} bits: an integer has 16, 32 or 64."
            )
        if bool(self.true_values) != bool(self.false_values):
            raise RequestError(f"Field {self.name!r} names true or false values only: name both.")
        if self.precision is not None:
            scale = self.scale or 0
            if self.type != "number" or not 1 <= self.precision <= 38 or scale > self.precision:
                raise RequestError(
                    f"Field {self.name!r} cannot have precision {self.precision} and scale "
                    f"{scale}: a number has 1 to 38 digits, of which scale are decimals."
                )

        if not self.is_plain and self.type not in ("integer", "number"):
            raise RequestError(
                f"Field {self.name!r} is a {self.type}, so it has no mark for decimals or groups."
            )
        if len(self.decimal_char) != 1 or len(self.group_char) > 1:
            raise RequestError(
                f"Field {self.name!r} cannot have the marks {self.decimal_char!r} for decimals and "
                f"{self.group_char!r} for groups: each is one character."
            )
        texts = (self.min_length, self.max_length, self.pattern)
        if self.type != "string" and texts != (None, None, None):
            raise RequestError(
                f"Field {self.name!r} is no string, so it can have no length and no pattern."
            )
        limits = (self.minimum, self.maximum)
        if (self.is_text or self.type == "boolean") and limits != (None, None):
            raise RequestError(
                f"Field {self.name!r} is a {self.type}, so it can have no minimum and no maximum."
            )
        if self.pattern is not None:
            try:
                re.compile(self.pattern)
            except re.error as error:
                raise RequestError(
                    f"The pattern {self.pattern!r} of field {self.name!r} cannot be used: {error}."
                ) from None

    @property
    def is_constrained(self) -> bool:
        """Whether values of the right type can still be refused one by one."""
        return any(
            limit is not None
            for limit in (
                self.minimum, self.maximum, self.enum, self.min_length, self.max_length,
                self.pattern,
            )
        )  # fmt: skip

    @property
    def is_decimal(self) -> bool:
        """Whether values are exact decimals rather than floats."""
        return self.type == "number" and self.precision is not None

    @property
    def has_pattern(self) -> bool:
        """Whether values need a strptime pattern rather than ISO 8601."""
        moment = self.type in ("date", "datetime", "time")
        return moment and not (self.format in ISO_PATTERNS or self.is_instant or self.is_epoch)

    @property
    def is_instant(self) -> bool:
        """Whether values name their zone."""
        return self.type == "datetime" and self.format == INSTANT

    @property
    def is_epoch(self) -> bool:
        """Whether values count seconds or parts of them since 1970."""
        return self.type == "datetime" and self.format in EPOCHS

    @property
    def is_duration(self) -> bool:
        """Whether a number of seconds is written as a length of time."""
        return self.type == "number" and self.format == DURATION

    @property
    def is_plain(self) -> bool:
        """Whether a number is written with a point for decimals and nothing else."""
        return all(getattr(self, name) == plain for name, plain in BARE.items())

    @property
    def is_uuid(self) -> bool:
        """Whether values are UUIDs."""
        return self.type == "string" and self.format == "uuid"

    @property
    def is_json(self) -> bool:
        """Whether values are JSON."""
        return self.type in ("object", "array")

    @property
    def is_text(self) -> bool:
        """Whether values are kept as text."""
        return self.type in ("string", "object", "array", "any")

    @property
    def is_free_text(self) -> bool:
        """Whether any text at all fits, so that an empty value is one and no null."""
        return self.type in ("string", "any") and not self.is_uuid

    @property
    def is_converted(self) -> bool:
        """Whether values are read as text first, because Arrow's own reading does not do."""
        return (
            self.has_pattern
            or self.is_instant
            or self.is_epoch
            or self.is_duration
            or self.is_uuid
            or self.is_json
            or bool(self.true_values)
            or not self.is_plain
        )

    def arrow_type(self) -> pa.DataType:
        """The Arrow type that values are read into."""
        import pyarrow as pa

        if self.is_decimal:
            return pa.decimal128(self.precision, self.scale or 0)
        types: dict[str, pa.DataType] = {
            "integer": {16: pa.int16(), 32: pa.int32(), 64: pa.int64()}[self.bits],
            "number": pa.float64(),
            "boolean": pa.bool_(),
            "date": pa.date32(),
            "datetime": pa.timestamp("us"),
            "time": pa.time64("us"),
        }
        return types.get(self.type, pa.string())

    def describe(self) -> str:
        """The type as a person would say it: `number(9,2)`, `date as %d/%m/%Y`."""
        if not self.is_plain:
            return f"{replace(self, **BARE).describe()} as {self._shown()}"
        if self.is_duration:
            return "seconds of a duration"
        if self.is_decimal:
            return f"number({self.precision},{self.scale or 0})"
        if self.is_instant:
            return "datetime with a zone"
        if self.is_epoch:
            return (
                "datetime as seconds since 1970" if self.format == "epoch" else "datetime as epoch"
            )
        if self.type == "integer" and self.bits < 64:
            return f"integer of {self.bits} bits"
        if self.is_uuid:
            return "UUID"
        if self.is_json:
            return f"JSON {self.type}"
        if self.type == "any":
            return "text or JSON"
        if self.true_values:
            return f"boolean as {self.true_values[0]} or {self.false_values[0]}"
        return f"{self.type} as {self.format}" if self.has_pattern else self.type

    def _shown(self) -> str:
        """A number as the files write it."""
        text = (
            f"1{self.group_char}234{self.decimal_char}5" if self.scale else f"1{self.group_char}234"
        )
        if self.brackets:
            return f"({text})"
        return text if self.bare_number else f"{text} with {self.sign or 'a sign'}"


# What a number has that is written plainly.
BARE: dict[str, Any] = {
    "decimal_char": ".", "group_char": "", "bare_number": True, "sign": None, "brackets": False,
}  # fmt: skip


@dataclass(frozen=True)
class Layout:
    """A format, a dialect and the fields in file order.

    `format` is csv for any delimited text, jsonl or parquet; the last two have the dialect of plain
    lines. Raises RequestError for an unknown format, without fields, or when two share a name.
    """

    name: str
    dialect: Dialect
    fields: tuple[Field, ...]
    format: str = "csv"

    def __post_init__(self) -> None:
        if self.format not in FORMATS:
            raise RequestError(
                f"The layout {self.name!r} has the unknown format {self.format!r}: use one of "
                f"{', '.join(FORMATS)}."
            )
        names = self.names
        if not names:
            raise RequestError(f"The layout {self.name!r} has no fields: add at least one.")
        twice = sorted(name for name, count in Counter(names).items() if count > 1)
        if twice:
            raise RequestError(
                f"The layout {self.name!r} names the field {twice[0]!r} twice: rename one."
            )

    @property
    def names(self) -> tuple[str, ...]:
        """Field names in file order."""
        return tuple(field.name for field in self.fields)

    @property
    def forms(self) -> tuple[str, ...]:
        """What is done with the text before records are looked for in it."""
        return () if self.format == "parquet" else self.dialect.forms

    @cached_property
    def as_read(self) -> Layout:
        """The layout of the text once its `forms` are done."""
        if not self.forms:
            return self
        return replace(self, dialect=self.dialect.as_read)

    @property
    def headless(self) -> Layout:
        """The layout of bare records, as they are once they are read."""
        dialect = replace(self.as_read.dialect, header=False, before=0, header_rows=1)
        return replace(self.as_read, dialect=dialect)

    @cached_property
    def arrow_schema(self) -> Any:
        """The pyarrow.Schema of parsed tables."""
        import pyarrow as pa

        return pa.schema([(field.name, field.arrow_type()) for field in self.fields])

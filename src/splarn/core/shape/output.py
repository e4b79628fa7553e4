"""What parts are to be: format, packing, order, and the layout they read by."""

from __future__ import annotations

from dataclasses import dataclass, replace

from splarn.core.codecs import Packing
from splarn.core.errors import RequestError
from splarn.core.layout import LINES, Dialect, Layout

ROW_GROUP = 131_072
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
            bare = source.headless
            return replace(bare, dialect=replace(bare.dialect, header=self.header))
        from splarn.core.shape.rows import plain_field

        fields = tuple(plain_field(field) for field in source.fields)
        dialect = LINES
        if self.format == "csv":
            mark = source.as_read.dialect.delimiter if source.format == "csv" else ","
            usual = mark if len(mark) == 1 and mark not in '"\x1f' else ","
            markers = ("", "\\N") if len(fields) == 1 else ("",)
            dialect = Dialect(delimiter=usual, header=self.header, null_markers=markers)
        return Layout(source.name, dialect, fields, self.format)


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

"""Rows of one layout as rows of another, so that files of several kinds go into one table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout

if TYPE_CHECKING:
    from splarn.core.reading.parsed import MakeFault, Parsed

# What a type can become besides itself, where its values allow; text may hold anything.
_BECOMES = {
    "integer": ("number", "string"),
    "number": ("integer", "string"),
    "date": ("datetime", "string"),
    "string": ("integer", "number", "boolean", "date", "time", "datetime"),
}  # fmt: skip


@dataclass(frozen=True)
class Fitting:
    """How rows of `source` become rows of `into`: what each field of it comes from, None for null.

    Values are cast exactly: one that would be another afterwards is a fault of its row.
    """

    source: Layout
    into: Layout
    origins: tuple[str | None, ...]

    @property
    def casts(self) -> tuple[str, ...]:
        """What becomes of fields that do not stay as they are, in words."""
        known = {field.name: field for field in self.source.fields}
        said = []
        for field, origin in zip(self.into.fields, self.origins, strict=True):
            if origin is None:
                said.append(f"{field.name} is null")
                continue
            old = known[origin]
            if _same(old, field):
                if origin != field.name:
                    said.append(f"{field.name} is its {origin}")
                continue
            said.append(f"{field.name} is its {origin}, {old.describe()} as {field.describe()}")
        return tuple(said)

    def fitted(self, parsed: Parsed, fault: MakeFault) -> Parsed:
        """The same rows in the other layout; those that cannot be cast are faults."""
        from dataclasses import replace

        import numpy as np
        import pyarrow as pa

        from splarn.core.reading.constraints import Constraint
        from splarn.core.reading.parsed import constrained

        known = {field.name: field for field in self.source.fields}
        rows, table = len(parsed.good), parsed.table
        columns, bad = [], np.zeros(rows, dtype=bool)
        faults = {}

        def blame(mask: Any, field: Field, kind: str, column: Any, message: str) -> None:
            for position in np.flatnonzero(mask & ~bad).tolist():
                value = None if column is None else column[position].as_py()
                row = int(parsed.good[position])
                shown = None if value is None else str(value)
                faults[row] = fault(row, field.name, kind, shown, message)
            bad[mask] = True

        for field, origin in zip(self.into.fields, self.origins, strict=True):
            if origin is None:
                columns.append(pa.nulls(rows, field.arrow_type()))
                continue
            column = table.column(origin)
            values, misfit = _cast(column, known[origin], field)
            if misfit.any():
                blame(misfit, field, "type", column, f"no {field.describe()}")
            if field.required and values.null_count:
                missing = np.asarray(values.is_null()) & ~misfit
                blame(missing, field, "required", None, "empty where required")
            columns.append(values)
        made = pa.table(columns, schema=self.into.arrow_schema)
        keep = ~bad
        every = sorted((*parsed.faults, *faults.values()), key=lambda found: found.row)
        told = replace(
            parsed, table=made.filter(pa.array(keep)), good=parsed.good[keep], faults=tuple(every)
        )
        limits = [Constraint(field) for field in self.into.fields if field.is_constrained]
        return constrained(told, limits, fault) if limits else told


def fitting_of(
    source: Layout,
    into: Layout,
    columns: Mapping[str, str],
    leave_out: Sequence[str],
    where: str,
) -> Fitting:
    """How rows of a layout go into another: by name, unless `columns` names a field's origin.

    Raises RequestError for a name that neither has, a field that goes nowhere or that is required
    and comes from nowhere, and a cast that no value could pass.
    """
    known = {field.name: field for field in source.fields}
    for name, given in columns.items():
        if name not in into.names:
            raise RequestError(f"{where}.columns names {name}: there is {', '.join(into.names)}.")
        if given not in known:
            raise RequestError(
                f"{where}.columns takes {name} from {given}: there is {', '.join(known)}."
            )
    for name in leave_out:
        if name not in known:
            raise RequestError(f"{where}.leave_out names {name}: there is {', '.join(known)}.")
    origins: list[str | None] = []
    for field in into.fields:
        named = field.name if field.name in known else None
        origin = columns.get(field.name) or named
        if origin is None and field.required:
            raise RequestError(
                f"{where} has nothing for {field.name}, which must not be missing: name what it "
                f"comes from under {where}.columns; there is {', '.join(known)}."
            )
        if origin is not None and not _may_become(known[origin], field):
            raise RequestError(
                f"{where}: {origin} is {known[origin].describe()} and cannot become "
                f"{field.name}, which is {field.describe()}."
            )
        origins.append(origin)
    lost = [name for name in known if name not in origins and name not in leave_out]
    if lost:
        raise RequestError(
            f"{where}: {lost[0]} goes nowhere: name the field that it becomes under "
            f'{where}.columns, or write leave_out = ["{lost[0]}"].'
        )
    return Fitting(source, into, tuple(origins))


def _same(old: Field, new: Field) -> bool:
    """Whether values stay as they are."""
    kinds = [
        (one.type, one.arrow_type(), one.is_uuid, one.is_instant, one.is_duration)
        for one in (old, new)
    ]
    return kinds[0] == kinds[1]


def _may_become(old: Field, new: Field) -> bool:
    if _same(old, new):
        return True
    if old.type == new.type:
        # A moment with a zone is no time of the clock on the wall; other forms are cast.
        return old.is_instant == new.is_instant
    return new.type in _BECOMES.get(old.type, ())


def _cast(column: Any, old: Field, new: Field) -> tuple[Any, Any]:
    """A column in another type, null where that would be another value, and where that is."""
    import numpy as np
    import pyarrow as pa

    from splarn.core.reading.convert import convert_text
    from splarn.core.reading.text import value_text

    if isinstance(column, pa.ChunkedArray):
        column = column.combine_chunks()
    if _same(old, new):
        return column, np.zeros(len(column), dtype=bool)
    if old.type == "date" and new.type == "datetime":
        return column.cast(new.arrow_type()), np.zeros(len(column), dtype=bool)
    text = value_text(column)
    if new.type == "integer" and old.type == "number":
        text = _whole(text)
    return convert_text(text, new)


def _whole(text: Any) -> Any:
    """Numbers without a fraction that is none."""
    import pyarrow.compute as pc

    return pc.replace_substring_regex(text, r"\.0+$", "")

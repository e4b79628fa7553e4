"""The table before the load: what is there, whether the layout fits it, every difference named."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.target.session import Session
from splarn.core.target.tables import TableColumn
from splarn.core.work.words import nearest


@dataclass(frozen=True)
class TableMatch:
    """How the source's fields go into the table.

    `is_there` says whether there is a table, and `counting` counts its rows, which may take long.
    `names` are the fields stored, in layout order; `identity` is a column that the engine numbers
    and that is stored all the same. `differences` tell why the table cannot take the rows; `notes`
    what a person should know.
    """

    is_there: bool
    counting: Callable[[], int]
    names: tuple[str, ...]
    identity: str | None = None
    differences: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()

    @cached_property
    def rows(self) -> int | None:
        """The rows in it when they were first asked for, None where there is no table."""
        return self.counting() if self.is_there else None


def match_table(
    session: Session,
    table: str,
    layout: Layout,
    chosen: Sequence[str] | None = None,
    numbers: str | None = None,
) -> TableMatch:
    """Holds the table against the layout, or against its `chosen` fields.

    `numbers` says whose a column that the engine numbers gets: the files', the table's own, or, for
    None, the files' with a note.
    Raises RequestError when a chosen field is not in the layout.
    """
    names = _chosen(layout, chosen)
    columns = session.tables.columns(table)

    def counting() -> int:
        return session.rows.count(table)

    if columns is None:
        return TableMatch(False, counting, names)
    numbered = next((c.name for c in columns if c.identity and c.name in names), None)
    notes: tuple[str, ...] = ()
    if numbered is not None and numbers == "table":
        names = tuple(name for name in names if name != numbered)
        numbered = None
    elif numbered is not None and numbers is None:
        notes = (
            f"{numbered} is numbered by {table} itself and is also in the files: their values are "
            "stored, and the table's own numbers go on behind them (--numbers files); --numbers "
            "table would leave them out and let the table number the rows.",
        )
    return TableMatch(
        True,
        counting,
        names,
        numbered,
        tuple(_differences(columns, layout, names)),
        notes,
    )


def stored(layout: Layout, names: Sequence[str]) -> Layout:
    """The layout with only the fields that are stored."""
    return replace(layout, fields=tuple(field for field in layout.fields if field.name in names))


def _chosen(layout: Layout, chosen: Sequence[str] | None) -> tuple[str, ...]:
    if chosen is None:
        return layout.names
    unknown = [name for name in chosen if name not in layout.names]
    if unknown:
        raise RequestError(
            f"The layout {layout.name!r} has no field {', '.join(unknown)}"
            f"{nearest(unknown[0], layout.names)}: it has {', '.join(layout.names)}."
        )
    return tuple(name for name in layout.names if name in chosen)


def _differences(columns: list[TableColumn], layout: Layout, names: Sequence[str]) -> list[str]:
    present = {column.name: column for column in columns}
    differences = [f"it lacks {name}" for name in names if name not in present]
    # Rows are stored by name: a column that may stay empty is no difference.
    differences += [
        f"it adds {column.name}, which wants a value"
        for column in columns
        if column.name not in names and not column.optional and not column.computed
    ]
    for field in layout.fields:
        column = present.get(field.name)
        if column is None or field.name not in names:
            continue
        if column.computed:
            differences.append(f"{field.name} is computed there and cannot be stored")
        elif not _can_hold(column.type, "string" if field.is_text else field.type):
            differences.append(
                f"{field.name} is {column.type} there and {field.type} in the layout"
            )
    return differences


def _can_hold(there: str, wanted: str) -> bool:
    """Whether a column of one field type takes values of another without loss."""
    wider = {
        "integer": ("number",),
        "date": ("datetime", "string"),
        "datetime": ("string",),
        "time": ("string",),
        "boolean": ("integer", "number"),
        "number": (),
        "string": (),
    }
    return there in ("any", wanted, *wider[wanted])

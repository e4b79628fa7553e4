"""The table before the load: made, fitted or emptied, and every difference named."""

from __future__ import annotations

from collections.abc import Callable

from splarn.core.engine import Session
from splarn.core.errors import RequestError
from splarn.core.layout import Layout


def fit_table(
    session: Session,
    table: str,
    layout: Layout,
    mode: str,
    confirm: Callable[[int], bool] | None,
) -> None:
    """Makes the table ready in the open transaction.

    `create` wants no table or an empty one, `append` and `empty` make a missing one. `confirm` is
    asked with the rows that `empty` would remove; None agrees.
    Raises RequestError when the table is there but should not be, or has other columns.
    """
    columns = session.columns(table)
    if columns is None:
        session.create(table, layout)
        return
    if mode == "create" and session.count(table):
        raise RequestError(
            f"The table {table} is already there with {session.count(table):,} rows: give "
            "--table-mode append to add to it or --table-mode empty to empty it first."
        )
    present = {column.name: column.type for column in columns}
    missing = [name for name in layout.names if name not in present]
    # Rows are stored by name: a column that may stay empty is no difference.
    extra = [c.name for c in columns if c.name not in layout.names and not c.optional]
    other = [
        f"{field.name} is {present[field.name]} there and {field.type} in the layout"
        for field in layout.fields
        if field.name in present and not _can_hold(present[field.name], field.type)
    ]
    differences = [f"it lacks {name}" for name in missing]
    differences += [f"it adds {name}, which wants a value" for name in extra]
    differences += other
    if differences:
        raise RequestError(
            f"The table {table} has other columns than the layout {layout.name!r}: "
            f"{'; '.join(differences)}; change the layout or load into another table."
        )
    if mode == "empty":
        rows = session.count(table)
        if rows and confirm is not None and not confirm(rows):
            raise RequestError(
                f"The table {table} holds {rows:,} rows that --table-mode empty would remove: give "
                "--yes to agree."
            )
        session.empty(table)


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

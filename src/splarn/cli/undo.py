"""`splarn undo`: a load taken back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.completing import ids_of
from splarn.cli.options import AsJson, JobFile, TargetUrl, Yes

if TYPE_CHECKING:
    from splarn.cli.context import Context

# In place of an id: the newest load that was not taken back.
LAST = "last"


def undo(
    load_id: Annotated[
        str,
        typer.Argument(
            metavar="LOAD",
            help="Its id as load and ledger show it, or last.",
            autocompletion=ids_of("load"),
        ),
    ],
    to: TargetUrl = None,
    with_changes: Annotated[
        bool,
        typer.Option(
            "--with-changes", help="Also what was changed in its rows or in the table since."
        ),
    ] = False,
    yes: Yes = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Take a load back, whole or unfinished: its rows out, what they displaced in again.

    Example: [bold]splarn undo 20261125-0930 --to sqlite:///larkmere.db[/bold]

    Only rows that the load brought in are removed. Where any of their cells or the table's columns
    were changed since, nothing is done, and what was changed is said.
    """
    from splarn.cli.context import Context
    from splarn.cli.load import agreed
    from splarn.core.load import undo as take_back
    from splarn.core.units import plural
    from splarn.engines import opener

    context = Context(job, as_json)
    out = context.out
    context.check_ledger()
    target = context.target(to)
    if load_id == LAST:
        load_id = _last(context, target)
    watch = out.progress()

    def confirm(what: str) -> bool:
        if not agreed(f"{what}. Go on?", yes, as_json):
            return False
        watch.start("taking back", None, "")
        return True

    try:
        done = take_back(opener(target), load_id, confirm=confirm, with_changes=with_changes)
    finally:
        watch.finish()
    document = {
        "load_id": done.load_id,
        "table": done.table,
        "target": done.place,
        "rows_removed": done.rows_removed,
        "rows_restored": done.rows_restored,
        "what": done.what,
    }
    summary = f"{done.table}: {plural(done.rows_removed, 'row')} taken back"
    context.note("undo", f"undo-{done.load_id}", summary, document, parent=done.load_id)
    out.good(f"Took back the load {done.load_id}: {done.what}.")
    out.document(document)


def _last(context: Context, target: str) -> str:
    """The newest load into a target that this ledger knows of and that was not taken back."""
    from splarn.core.errors import RequestError
    from splarn.engines import identity

    place = identity(target)
    with context.ledger() as ledger:
        undone = {one.parent for one in ledger.entries("undo")}
        mine = [one.id for one in ledger.entries("load") if one.document.get("target_id") == place]
    left = [one for one in mine if one not in undone]
    if not left:
        raise RequestError(
            "The ledger knows of no load into that target that could be taken back: name one."
        )
    return left[-1]

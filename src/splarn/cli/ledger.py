"""`splarn ledger`: what has been done."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from splarn.cli.completing import ids_of
from splarn.cli.options import AsJson, JobFile, Yes
from splarn.cli.tables import Column, text


def ledger(
    entry: Annotated[
        str | None,
        typer.Argument(
            metavar="ID",
            help="Show this entry whole; its start will do.",
            autocompletion=ids_of(
                "ship", "load", "undo", "unload", "compact", "sweep", "plan", "run", "probe"
            ),
        ),
    ] = None,
    kind: Annotated[
        str | None,
        typer.Option(
            "--kind",
            metavar="KIND",
            help="Only one of ship, load, undo, unload, compact, sweep, trial, plan, run, probe.",
        ),
    ] = None,
    export: Annotated[
        Path | None,
        typer.Option(
            "--export",
            metavar="FILE",
            help="Write loads, runs and trials as a flat table, ending in .parquet, .csv or "
            ".json; or whole entries as JSON lines, ending in .jsonl.",
        ),
    ] = None,
    taken: Annotated[
        Path | None,
        typer.Option(
            "--import",
            metavar="FILE",
            help="Take in trials, loads and runs that were measured elsewhere, as --export wrote "
            "them; what does not fit is refused.",
        ),
    ] = None,
    tidy: Annotated[
        bool,
        typer.Option(
            "--tidy", help="Show what sweeps, runs and shapes that ended have left, and remove it."
        ),
    ] = False,
    yes: Yes = False,
    show: Annotated[
        int, typer.Option("--show", metavar="N", help="Entries to list, the newest last.")
    ] = 20,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """List past loads, sweeps, trials, plans and runs of this job.

    Example: [bold]splarn ledger --kind run[/bold]
    """
    from splarn.cli.context import Context
    from splarn.cli.costs import cost_of_entry, summed
    from splarn.cli.tidying import clear_up, show_sweeps
    from splarn.core.errors import RequestError
    from splarn.core.ledger import KINDS
    from splarn.core.units import plural, show_duration, show_money
    from splarn.core.work.disk import write_text

    context = Context(job, as_json)
    out = context.out
    if kind is not None and kind not in KINDS:
        raise RequestError(f"The ledger has no {kind!r} entries: use one of {', '.join(KINDS)}.")
    with context.ledger() as book:
        if taken is not None:
            from splarn.core.measured import entries_of, read_table, take_in

            measured = entries_of(read_table(taken), str(taken))
            count = take_in(book, measured, str(taken))
            before = len(measured) - count
            there = f"; {plural(before, 'other')} had been taken in before" if before else ""
            out.good(f"Took in {plural(count, 'entry')} from {taken}{there}.")
        if tidy:
            out.document(clear_up(context, book, yes))
            return
        if entry is not None:
            wanted = book.find(entry)
            out.head(f"{wanted.kind} {wanted.id}, {wanted.at}")
            if not as_json:
                out.say(json.dumps(wanted.document, indent=1, ensure_ascii=False))
            out.document(wanted.as_json())
            return
        entries = book.entries(kind)
        every = book.entries() if kind == "sweep" else entries
        where = book.path
    listed = [one for one in entries if kind or one.kind != "trial"]
    if kind == "sweep" and listed:
        show_sweeps(out, listed[-show:], every)
    elif not listed:
        out.say(f"The ledger {where} has no entries yet: load or sweep something.")
    else:
        known = {one.document.get("currency") for one in listed if cost_of_entry(one)}
        unit = f", {next(iter(known))}" if len(known) == 1 else ""
        out.table(
            [
                "kind",
                "id",
                Column("at (UTC)", 3),
                text("what"),
                Column(">time", 2),
                Column(f">cost{unit}", 1),
            ],
            (
                (
                    one.kind,
                    one.id,
                    one.at.replace("T", " ")[:16],
                    one.summary,
                    "" if one.seconds is None else show_duration(one.seconds),
                    cost_of_entry(one, not unit),
                )
                for one in listed[-show:]
            ),
        )
        trials = len(entries) - len(listed)
        hidden = f", and {plural(trials, 'trial')} (--kind trial)" if trials else ""
        older = f"; {len(listed) - show} older ones not shown" if len(listed) > show else ""
        shown = plural(len(listed), "entry")
        out.say(f"{shown}{older}{hidden}. `splarn ledger ID` shows one whole.")
    sums = summed(entries)
    for currency, by_kind in sums.items():
        of = ", ".join(f"{kind} {show_money(sum_, currency)}" for kind, sum_ in by_kind.items())
        out.say(f"Spent: {show_money(sum(by_kind.values()), currency)} ({of}).")
    if export is not None:
        if export.suffix.lower() == ".jsonl":
            lines = (json.dumps(one.as_json(), ensure_ascii=False) for one in entries)
            write_text(export, "".join(line + "\n" for line in lines))
            out.good(f"Wrote {plural(len(entries), 'entry')} to {export}.")
        else:
            from splarn.core.measured import table_of, write_table

            table = table_of(entries)
            write_table(table, export)
            out.good(
                f"Wrote {plural(len(table), 'row')} to {export}, one for each load, run and trial."
            )
    out.document({"entries": [one.as_json() for one in entries], "costs": sums})

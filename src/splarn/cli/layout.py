"""`splarn layout`: how the files read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import AsJson, JobFile, Paths, Settings, Yes
from splarn.cli.tables import Column

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.inference.infer import Inferred
    from splarn.core.layout import Layout
    from splarn.core.source.source import Source


def layout(
    paths: Paths = None,
    out_file: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Keep the layout in this file.")
    ] = None,
    ddl: Annotated[
        str | None,
        typer.Option(
            "--ddl",
            metavar="ENGINE",
            help="Print the table for sqlite, duckdb, postgresql or mariadb.",
        ),
    ] = None,
    delimiter: Annotated[
        str | None, typer.Option("--delimiter", metavar="CHAR", help="Settle the delimiter.")
    ] = None,
    flatten: Annotated[
        bool, typer.Option("--flatten", help="Give nested JSON objects columns of their own.")
    ] = False,
    review: Annotated[
        bool,
        typer.Option("--review", help="Show the evidence for each field, and what else fits."),
    ] = False,
    table: Annotated[
        str | None, typer.Option("--table", metavar="NAME", help="Table name for --ddl.")
    ] = None,
    yes: Yes = False,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Infer how the files read: delimiter, header, types; doubts are said.

    Example: [bold]splarn layout deliveries/ --out layout.json[/bold]
    """
    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.inference.groups import grouped
    from splarn.core.inference.infer import infer_layout
    from splarn.core.layout.descriptor import write_layout
    from splarn.core.source.source import Source
    from splarn.engines import open_engine

    context = Context(job, as_json, settings)
    out = context.out
    delimiter = "\t" if delimiter in ("\\t", "tab") else delimiter
    engine = open_engine(f"{ddl}://") if ddl else None
    groups = grouped([Source.of(path) for path in context.paths(paths)])
    if len(groups) > 1 and delimiter is None:
        out.note(f"The files are of {len(groups)} kinds; each has a layout of its own.")
    elif delimiter is not None:
        groups = [[source for group in groups for source in group]]
    with out.working("looking how they read"):
        every = [infer_layout(group, delimiter=delimiter, flatten=flatten) for group in groups]
    places = _places(out_file, [inferred.layout.name for inferred in every])
    taken = next((into for into in places if into is not None and into.exists()), None)
    if taken is not None and not yes:
        raise RequestError(
            f"{taken} is already there and may hold your edits: name another file, or give --yes "
            "to overwrite it."
        )
    documents = []
    for group, inferred, into in zip(groups, every, places, strict=True):
        guessed = inferred.layout
        statement = engine.ddl(context.table(table, guessed.name), guessed) if engine else None
        # Before anything is shown: whoever reads that may stop reading.
        if into is not None:
            write_layout(guessed, into)
        _show(out, group, inferred, statement, into, review)
        documents.append(_document(inferred, statement, into, review))
    first, *others = documents
    out.document(first | ({"others": others} if others else {}))


def _places(out_file: Path | None, names: Sequence[str]) -> list[Path | None]:
    """The file of each layout; those of further kinds are named after them, each its own."""
    if out_file is None:
        return [None] * len(names)
    written = [out_file]
    for number, name in enumerate(names[1:], 2):
        plain = "".join(mark if mark.isalnum() or mark in "-_" else "-" for mark in name)
        into = out_file.with_name(f"{out_file.stem}.{plain or number}{out_file.suffix}")
        if into in written:
            into = out_file.with_name(f"{out_file.stem}.{plain}-{number}{out_file.suffix}")
        written.append(into)
    return list(written)


def _show(
    out: Output,
    group: Sequence[Source],
    inferred: Inferred,
    statement: str | None,
    into: Path | None,
    review: bool,
) -> None:
    guessed = inferred.layout
    names = ", ".join(source.name for source in group[:3])
    more = f" and {len(group) - 3:,} more" if len(group) > 3 else ""
    out.say(
        f"Layout {guessed.name} of {names}{more}, from {inferred.rows_sampled:,} sampled rows: "
        f"{_how(group[0], guessed)}."
    )
    out.table(
        [
            Column("field", shortens=True),
            "type",
            Column("may be empty", 2),
            Column(">empty", 1),
            Column(">different", 3),
            Column(">longest", 4),
            Column("for example", 5, shortens=True),
        ],
        (
            (
                field.name,
                field.describe(),
                "no" if field.required else "yes",
                f"{seen.empty / seen.rows:.1%}" if seen.empty else "",
                "all" if seen.is_unique else f"{seen.distinct:,}",
                f"{seen.longest:,}" if field.is_text else "",
                _short(seen.example),
            )
            for field, seen in zip(guessed.fields, inferred.seen, strict=True)
        ),
    )
    for note in inferred.notes:
        out.note(f"{note}.")
    if review:
        _show_evidence(out, inferred)
    if statement:
        out.say(statement)
    if into is not None:
        out.good(f"Wrote {into}; edit it by hand where you know better.")
    else:
        out.say("Nothing was written; --out layout.json keeps it.")


def _show_evidence(out: Output, inferred: Inferred) -> None:
    """What speaks for each field's type, what does not fit it, and what else would."""
    if not inferred.evidence:
        out.note("Parquet says its types itself; there is no evidence to weigh.")
    for field, evidence in zip(inferred.layout.fields, inferred.evidence, strict=False):
        out.say(f"\n  {field.name}: {field.describe()}")
        empty = f", {evidence.empty:,} empty" if evidence.empty else ""
        shown = ", ".join(f"{value!r} ({count:,})" for value, count in evidence.common)
        out.say(f"    {evidence.filled:,} filled{empty}; most often {shown or 'nothing'}")
        for value, where in evidence.odd:
            out.say(f"    odd: {value!r} in {where}")
        others = ", ".join(
            f"{kind} ({'all' if fits == evidence.filled else f'{fits:,}'} fit)"
            for kind, fits in evidence.alternatives
        )
        if others:
            out.say(f"    else: {others}")
    out.say("")


def _how(source: Source, found: Layout) -> str:
    """How the records are written, in words."""
    if found.format == "parquet":
        return "Parquet"
    if found.format == "jsonl":
        return "JSON lines" if "+json" not in source.codec else "JSON, a value at a time"
    from splarn.core.inference.text_form import show_mark
    from splarn.core.records.splitting import Marks

    dialect = found.dialect
    between = f"{show_mark(Marks(dialect.delimiter, runs=dialect.runs))} between fields"
    if dialect.widths:
        between = "columns of fixed width"
    elif len(found.fields) == 1:
        between = "one value a line"
    return f"{between}, {'a' if dialect.header else 'no'} header line, {dialect.encoding}"


def _document(
    inferred: Inferred, statement: str | None, into: Path | None, review: bool
) -> dict[str, Any]:
    from splarn.core.layout.descriptor import to_descriptor

    evidence = [asdict(one) for one in inferred.evidence] if review else None
    return {
        "layout": to_descriptor(inferred.layout),
        "rows_sampled": inferred.rows_sampled,
        "notes": list(inferred.notes),
        "seen": [{**asdict(seen), "unique": seen.is_unique} for seen in inferred.seen],
        **({"evidence": evidence} if review else {}),
        "ddl": statement,
        "out": str(into) if into else None,
    }


def _short(example: str) -> str:
    """A value that fits on a line."""
    text = example.replace("\n", "⏎").replace("\r", "")
    return text if len(text) <= 24 else f"{text[:23]}…"

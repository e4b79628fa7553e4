"""`splarn layout`: how the files read."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer

from splarn.cli.options import AsJson, JobFile, Paths, Yes


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
    table: Annotated[
        str | None, typer.Option("--table", metavar="NAME", help="Table name for --ddl.")
    ] = None,
    yes: Yes = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Infer how the files read: delimiter, header, types; doubts are said.

    Example: [bold]splarn layout deliveries/ --out layout.json[/bold]
    """
    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.layout.descriptor import to_descriptor, write_layout
    from splarn.core.layout.inference import infer_layout
    from splarn.engines import open_engine

    context = Context(job, as_json)
    out = context.out
    delimiter = "\t" if delimiter in ("\\t", "tab") else delimiter
    engine = open_engine(f"{ddl}://") if ddl else None
    if out_file is not None and out_file.exists() and not yes:
        raise RequestError(
            f"{out_file} is already there and may hold your edits: name another file, or give "
            "--yes to overwrite it."
        )
    inferred = infer_layout(context.paths(paths), delimiter=delimiter)
    found = inferred.layout
    statement = engine.ddl(context.table(table, found.name), found) if engine else None
    # Before anything is shown: whoever reads that may stop reading.
    if out_file is not None:
        write_layout(found, out_file)
    dialect = found.dialect
    marks = {",": "comma", "\t": "tab", ";": "semicolon", "|": "bar"}
    how = {"jsonl": "JSON lines", "parquet": "Parquet"}.get(found.format) or (
        f"{marks.get(dialect.delimiter, dialect.delimiter)} between fields, "
        f"{'a' if dialect.header else 'no'} header line, {dialect.encoding}"
    )
    out.say(f"Layout {found.name}, from {inferred.rows_sampled:,} sampled rows: {how}.")
    out.table(
        ["field", "type", "may be empty", ">empty", ">different", ">longest", "for example"],
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
            for field, seen in zip(found.fields, inferred.seen, strict=True)
        ),
    )
    for note in inferred.notes:
        out.note(f"{note}.")
    if statement:
        out.say(statement)
    if out_file is not None:
        out.good(f"Wrote {out_file}; edit it by hand where you know better.")
    else:
        out.say("Nothing was written; --out layout.json keeps it.")
    out.document(
        {
            "layout": to_descriptor(found),
            "rows_sampled": inferred.rows_sampled,
            "notes": list(inferred.notes),
            "seen": [{**asdict(seen), "unique": seen.is_unique} for seen in inferred.seen],
            "ddl": statement,
            "out": str(out_file) if out_file else None,
        }
    )


def _short(example: str) -> str:
    """A value that fits on a line."""
    text = example.replace("\n", "⏎").replace("\r", "")
    return text if len(text) <= 24 else f"{text[:23]}…"

"""`splarn runbook`: a plan for a colleague without Splarn."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import AsJson, JobFile

if TYPE_CHECKING:
    from splarn.core.layout import Layout
    from splarn.core.shape.fitting import Fitting
    from splarn.core.shape.parts_format import PartsFormat
    from splarn.core.shape.shaper import Shaped
    from splarn.core.tuning.plan_file import Plan
    from splarn.report.clients import Client
    from splarn.report.runbook import Handed


# What lies in the folder beside parts and steps.
FILES = ("load.sh", "with-splarn.sh", "parts.sha256", "layout.json")


def runbook(
    plan: Annotated[Path, typer.Argument(metavar="PLAN", help="Plan written by `splarn plan`.")],
    into: Annotated[
        Path | None,
        typer.Option(
            "--into", metavar="DIR", help="New or empty folder for all of it; runbook if left out."
        ),
    ] = None,
    out_file: Annotated[
        Path | None,
        typer.Option(
            "--out", metavar="FILE", help="Put the steps in here, all else in a folder beside it."
        ),
    ] = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Write a plan as steps that need no Splarn: ready parts, SQL, a script, and how to go back.

    Example: [bold]splarn runbook plan.json --into tonight[/bold]

    The folder has parts for the target's own client (psql, mariadb, sqlite3, duckdb), STEPS.md in
    words, and load.sh, which does them and goes on where it stopped. Bad rows stay behind.
    with-splarn.sh does the same by Splarn's own commands.
    """
    import hashlib
    import os

    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.layout.descriptor import write_layout
    from splarn.core.reading.faults import replace_rejects
    from splarn.core.run.kinds import files_of
    from splarn.core.shape.parts_format import PartsFormat
    from splarn.core.shape.shaper import shape
    from splarn.core.source.codecs import Packing
    from splarn.core.source.places import key_of
    from splarn.core.target.names import split_name
    from splarn.core.tuning.plan_file import read_plan
    from splarn.core.units import plural
    from splarn.core.work.disk import outside, write_text
    from splarn.core.work.pools import Pools
    from splarn.engines import open_engine
    from splarn.report.by_splarn import commands, splarn_script
    from splarn.report.clients import client_of
    from splarn.report.runbook import Runbook, script, steps

    context = Context(job, as_json)
    into = into or (Path("runbook") if out_file is None else out_file.with_suffix(""))
    if out_file is not None and out_file == into:
        raise RequestError(
            f"--out: {out_file} is the folder's name too: end it in .md, or give --into alone."
        )
    out, chosen = context.out, read_plan(plan)
    engine = open_engine(chosen.target)
    client = client_of(engine.name)
    if chosen.kinds:
        raise RequestError(
            f"The plan {chosen.id} has files of several kinds: write a plan for each of them."
        )
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise RequestError(f"{into} is already there and not empty: name another folder.")
    own = files_of(chosen, context.job.folder)[0]
    output = PartsFormat("csv", Packing(), chosen.configuration.part_size, converted=True)
    keep = 0 if chosen.bad_rows.count == 0 else None
    folder = into / "parts"
    with Pools() as pools, outside(f"Writing {into}"):
        into.mkdir(parents=True, exist_ok=True)
        shaped = shape(
            own.paths, own.layout, folder, output,
            pools.threads(chosen.configuration.workers, "shape"), keep=keep,
            progress=out.progress(), fitting=_standard(own.layout, output),
        )  # fmt: skip
    quoted = _quoting(chosen.target)
    table = ".".join(map(quoted, split_name(chosen.table)))
    # One that is to be replaced stays until another is there.
    made_as = f"{chosen.table}_new" if chosen.table_mode == "replace" else chosen.table
    into_table = ".".join(map(quoted, split_name(made_as)))
    names = list(map(quoted, own.layout.names))
    parts, filled = _made(shaped, client, into_table, names)
    if shaped.faults:
        replace_rejects(into / "rejects.jsonl", shaped.faults)
    sums = []
    for one in parts:
        with outside(f"Reading {folder}"), (folder / one.name).open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        sums.append(f"{digest}  parts/{one.name}\n")
    book = Runbook(
        chosen.id, client, _target(chosen, context.job.folder, engine.is_file), table,
        engine.ddl(made_as, own.layout), chosen.table_mode, tuple(names), tuple(parts),
        filled, len(shaped.faults),
        chosen.configuration.load_streams if client.parallel else 1, chosen.forecast,
        chosen.prices.currency,
    )  # fmt: skip
    write_text(into / "parts.sha256", "".join(sums))
    words = out_file or into / "STEPS.md"
    where = "" if out_file is None else os.path.relpath(into, out_file.parent)
    sources = [key_of(one.resolve() if isinstance(one, Path) else one) for one in own.paths]
    by_splarn = commands(chosen, sources, book.target)
    write_text(words, steps(book, by_splarn, where))
    write_layout(own.layout, into / "layout.json")
    for name, text in (
        ("load.sh", script(book)), ("with-splarn.sh", splarn_script(chosen, by_splarn))
    ):  # fmt: skip
        write_text(into / name, text)
        (into / name).chmod(0o755)
    aside = f", {plural(book.set_aside, 'row')} set aside" if book.set_aside else ""
    out.say(
        f"{plural(book.rows, 'row')} in {plural(len(parts), 'part')} for {client.program}{aside}: "
        f"wrote {into}. {words.name} says what to do, and load.sh does it."
    )
    out.document({
        "files": [str(words), *(str(into / name) for name in FILES)],
        "parts": len(parts), "rows": book.rows, "set_aside": book.set_aside,
        "client": client.program,
    })  # fmt: skip


def _standard(layout: Layout, output: PartsFormat) -> Fitting:
    """All fields as they are, to be written with commas whatever the source has."""
    from dataclasses import replace

    from splarn.core.shape.fitting import Fitting

    made = output.layout(layout)
    into = replace(made, dialect=replace(made.dialect, delimiter=","))
    return Fitting(layout, into, layout.names)


def _quoting(target: str) -> Callable[[str], str]:
    """How a name is written in the target's own SQL."""
    from sqlalchemy.dialects import postgresql
    from sqlalchemy.exc import NoSuchModuleError

    from splarn.engines import parse_target

    try:
        dialect = parse_target(target).get_dialect()()
    except NoSuchModuleError:
        # DuckDB writes names as PostgreSQL does.
        dialect = postgresql.dialect()  # type: ignore[no-untyped-call]
    quote = dialect.identifier_preparer.quote_identifier
    # Drivers that fill values in want two of these, clients one.
    return lambda name: str(quote(name)).replace("%%", "%")


def _target(plan: Plan, folder: Path, is_file: bool) -> str:
    """The target's URL, a database file by its whole path."""
    from splarn.engines import parse_target

    if not is_file:
        return plan.target
    path = Path(parse_target(plan.target).database or "")
    kind = plan.target.partition(":")[0]
    return f"{kind}:///{(Path.cwd() / path).resolve()}"


def _made(
    shaped: Shaped, client: Client, table: str, names: list[str]
) -> tuple[list[Handed], dict[str, int]]:
    """The parts as the client takes them, and how many values of each column are no null."""
    from splarn.core.reading import read_parsed
    from splarn.core.shape.manifest import MANIFEST
    from splarn.core.work.disk import outside
    from splarn.report.runbook import Handed

    manifest = shaped.manifest
    folder, layout = manifest.folder, manifest.layout
    filled = dict.fromkeys(layout.names, 0)
    made = []
    for part in manifest.parts:
        path = folder / part.path

        def counted(path: Path = path, codec: str = part.codec) -> Iterable[Any]:
            for parsed in read_parsed(path, codec, layout):
                for name in layout.names:
                    column = parsed.table.column(name)
                    filled[name] += len(column) - column.null_count
                yield parsed.table

        written = path.with_suffix(f".{client.form}")
        if client.form == "csv":
            for _ in counted():
                pass
        else:
            with outside(f"Writing {written}"), written.open("wb") as file:
                for block in _written(client.form, counted(), layout, table, names):
                    file.write(block)
            path.unlink()
        made.append(Handed(written.name, part.rows or 0, written.stat().st_size))
    (folder / MANIFEST).unlink()
    return made, filled


def _written(
    form: str, tables: Iterable[Any], layout: Layout, table: str, names: list[str]
) -> Iterable[bytes]:
    from splarn.report.clients import statements

    if form == "sql":
        yield from statements(tables, layout, table, names)
        return
    from splarn.engines.sql.tabbed import tabbed

    for one in tables:
        yield tabbed(one, "1", "0")

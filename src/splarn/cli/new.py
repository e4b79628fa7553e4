"""`splarn new`: a job file for files and a target."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import AsJson

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.inference.infer import Inferred
    from splarn.core.source.places import Place
    from splarn.core.target.session import Engine
    from splarn.core.tuning.suggest import Surroundings

JOB = """\
# What is to be loaded, where to, and what may be tried. Options on the command line win over this.

[source]
paths = {paths}
layout = {layout}
{kinds}
[target]
url = {url}
table = {table}
table_mode = "create"  # create, append, empty, replace or renew
bad_rows = "set-aside"  # halt at the first, or set-aside into the folder rejects
# bad_row_limit = "1%"  # more than this is refused, although bad rows are set aside
{depot}
[space]  # what each lever may be; {space_words}
{space}
{more}
[sweep]
sample = {sample}  # how much of the source each trial loads
strategy = "adaptive"  # always the trial that promises most; or star, grid
# loads = 365  # how often such a delivery comes, so that trying pays

[limits]
{limits}
confidence = 0.9  # the chance asked for

# [scans]  # what the rows are going to be asked; `splarn forecast` says what that reads and costs
# questions = ["columns(FIELD FIELD) where(FIELD VALUE) monthly(900)"]
"""
KIND = """
[kinds.{name}]  # files of another layout, into a table of their own
paths = {paths}
layout = {layout}
table = {table}
"""


def new(
    paths: Annotated[
        list[str],
        typer.Argument(metavar="PATH…", help="Files, folders, patterns or URLs."),
    ],
    to: Annotated[
        str | None, typer.Option("--to", metavar="URL", help="The target; asked for if left out.")
    ] = None,
    table: Annotated[
        str | None,
        typer.Option("--table", metavar="NAME", help="Its table; named after the files if not."),
    ] = None,
    depot: Annotated[
        str | None,
        typer.Option("--depot", metavar="PLACE", help="Where parts are shipped before loading."),
    ] = None,
    deadline: Annotated[
        str | None, typer.Option("--deadline", metavar="TIME", help="It must end within this.")
    ] = None,
    budget: Annotated[
        float | None, typer.Option("--budget", metavar="MONEY", min=0, help="It may cost so much.")
    ] = None,
    layout: Annotated[
        Path | None,
        typer.Option("--layout", metavar="FILE", help="How the files read; inferred if left out."),
    ] = None,
    out_file: Annotated[
        Path, typer.Option("--out", metavar="FILE", help="Where the job file is written.")
    ] = Path("splarn.toml"),
    yes: Annotated[
        bool, typer.Option("--yes", help="Overwrite what is there, and ask nothing.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Write a job file for these files and this target, with a space worth trying.

    Example: [bold]splarn new deliveries/ --to sqlite:///canal.db --deadline 45m[/bold]

    What is not given is asked for where somebody is there to answer. Layouts are inferred and
    written beside the job file. Nothing is loaded.
    """
    from splarn.cli.context import Context
    from splarn.cli.misuse import if_any, read
    from splarn.core.errors import RequestError
    from splarn.core.inference.groups import grouped
    from splarn.core.inference.infer import infer_layout
    from splarn.core.job import read_job
    from splarn.core.layout.descriptor import read_layout, write_layout
    from splarn.core.source.secrets import tells_secret
    from splarn.core.source.source import Source
    from splarn.core.tuning.suggest import as_toml, sample_of, suggested
    from splarn.core.units import exact_size, parse_duration, plural, show_size
    from splarn.core.work.disk import write_text
    from splarn.engines import open_engine

    context = Context(None, as_json)
    out, folder = context.out, out_file.parent
    read("--deadline", if_any(parse_duration), deadline)
    files = context.paths(paths)
    groups = grouped([Source.of(path) for path in files])
    with out.working("looking how they read"):
        every = [None if layout and not at else infer_layout(one) for at, one in enumerate(groups)]
    first = every[0]
    own = read_layout(layout) if layout is not None else first.layout if first else None
    assert own is not None, "either is there"
    asking = not (yes or as_json)
    url = to or _asked(
        "Where to (the target's URL)", f"sqlite:///{own.name}.db", asking, "--to URL"
    )
    if tells_secret(url):
        raise RequestError(
            "The target's secret would be written into the job file: put it into the environment "
            "and write ${NAME} in its place, in single quotes on the command line."
        )
    engine = open_engine(url)
    into = table or _asked("Into which table", own.name, asking, "", own.name)
    if deadline is None and asking and to is None:
        given = _asked("Within what time, as 45m (nothing for no limit)", "", asking, "", "")
        deadline = given if read("the time", if_any(parse_duration), given or None) else None
    further = list(zip(_names(every[1:]), groups[1:], every[1:], strict=True))
    written = [out_file] + ([] if layout else [folder / "layout.json"])
    written += [folder / f"{name}.layout.json" for name, _, _ in further]
    taken = next((one for one in written if one.exists()), None)
    if taken is not None and not yes:
        raise RequestError(
            f"{taken} is already there: name another job file with --out, in a folder of its own, "
            "or give --yes to overwrite it."
        )
    around, unseen = _surroundings(engine, files, own.format, depot is not None)
    space = suggested(around)
    text = JOB.format(
        paths=_list(_from(folder, paths)),
        layout=_quoted(_from(folder, [str(layout)])[0] if layout else "layout.json"),
        kinds="".join(
            KIND.format(
                name=name, paths=_list(_from(folder, [str(one.place) for one in group])),
                layout=_quoted(f"{name}.layout.json"), table=_quoted(found.layout.name),
            )
            for name, group, found in further if found is not None
        ),
        url=_quoted(_file_from(folder, url) if engine.is_file else url), table=_quoted(into),
        depot=f"depot = {_quoted(_from(folder, [depot])[0])}\n" if depot else "",
        space_words=", ".join(
            ("for " + show_size(around.bytes), plural(around.cores, "core"), engine.title)
        ),
        space=as_toml(space), more=_more(engine),
        sample=_quoted(exact_size(sample_of(around.bytes))),
        limits=_limits(deadline, budget),
    )  # fmt: skip
    if layout is None:
        write_layout(own, folder / "layout.json")
    for name, _, found in further:
        if found is not None:
            write_layout(found.layout, folder / f"{name}.layout.json")
    write_text(out_file, text)
    job = read_job(out_file)
    _say(out, files, every, own, unseen, written, around)
    command = "" if out_file == Path("splarn.toml") else f" --job {out_file}"
    out.say(
        f"Next: `splarn check{command}`, then `splarn sweep{command}` and `splarn plan{command}`."
    )
    out.document({
        "files": [str(one) for one in written], "table": into, "space": space,
        "kinds": list(job.kinds), "bytes": around.bytes,
    })  # fmt: skip


def _asked(question: str, usual: str, asking: bool, option: str, silent: str | None = None) -> str:
    """An answer, where somebody is there to give it; what stands for it where nobody is.

    Raises RequestError where nothing does.
    """
    import sys

    from splarn.core.errors import RequestError

    if asking and sys.stdin.isatty():
        return str(typer.prompt(question, default=usual, show_default=bool(usual)))
    if silent is None:
        raise RequestError(f"Nobody is there to be asked: give {option}.")
    return silent


def _surroundings(
    engine: Engine, files: Sequence[Place], form: str, depot: bool
) -> tuple[Surroundings, str]:
    """What the space follows from, and what could not be looked at."""
    from splarn.core.errors import OutsideError
    from splarn.core.load.sizing import size_of
    from splarn.core.survey import survey
    from splarn.core.tuning.suggest import Surroundings
    from splarn.core.work.pools import usable_cores

    catalogue = survey(list(files))
    size = sum(float(one.raw_bytes or one.bytes) for one in catalogue.files)
    row_bytes = size / catalogue.rows if catalogue.rows else 100.0
    tiers: tuple[str, ...] = ()
    unseen = ""
    if engine.reads_parts:
        try:
            session = engine.connect()
            try:
                found = size_of(session)
                tiers = found.tiers if found else ()
            finally:
                session.close()
        except OutsideError as error:
            unseen = str(error)
    one_writer = engine.is_file and not engine.in_process
    return Surroundings(
        size, row_bytes, usable_cores(), form, one_writer, engine.reads_parts, tiers, depot
    ), unseen


def _more(engine: Engine) -> str:
    """The levers that the target has beside the usual ones, to be uncommented."""
    lines = []
    for name, values in engine.levers.items():
        if len(values) > 1:
            shown = ", ".join(f'"{one}"' for one in values)
            lines.append(f"# {name} = [{shown}]")
    return "\n".join(lines) + ("\n" if lines else "")


def _limits(deadline: str | None, budget: float | None) -> str:
    told = f"deadline = {_quoted(deadline)}" if deadline else '# deadline = "45m"'
    money = f"budget = {budget:g}" if budget is not None else "# budget = 12.50"
    return f"{told}\n{money}"


def _from(folder: Path, paths: Sequence[str]) -> list[str]:
    """Places as they are found from a folder; those that are whole stay as they are."""
    import os

    from splarn.core.source.places import is_url

    return [
        one if is_url(one) or Path(one).is_absolute() else os.path.relpath(one, folder)
        for one in paths
    ]


def _file_from(folder: Path, url: str) -> str:
    """The URL of a database file as it is found from a folder."""
    from splarn.engines import parse_target

    database = parse_target(url).database
    if not database or database.startswith(":"):
        return url
    return url.replace(database, _from(folder, [database])[0], 1)


def _names(every: Sequence[Inferred | None]) -> list[str]:
    """What kinds are called in the job file: after their layouts, each its own."""
    import re

    found: list[str] = []
    for one in every:
        name = re.sub(r"[^A-Za-z0-9_-]+", "-", one.layout.name if one else "kind").strip("-")
        while name in found or not name:
            name = f"{name}-{len(found) + 2}" if name else f"kind-{len(found) + 2}"
        found.append(name)
    return found


def _say(
    out: Output,
    files: Sequence[Place],
    every: Sequence[Inferred | None],
    own: Any,
    unseen: str,
    written: Sequence[Path],
    around: Surroundings,
) -> None:
    from splarn.core.units import plural, show_size

    rows = around.bytes / around.row_bytes
    out.say(
        f"{plural(len(files), 'file')}, {show_size(around.bytes)}, about "
        f"{plural(round(rows), 'row')} of {plural(len(own.fields), 'field')}."
    )
    for one in every:
        for note in one.notes if one is not None else ():
            out.note(note)
    if len(every) > 1:
        out.note(
            f"The files are of {len(every)} kinds; all but the largest go into tables of their "
            "own, unless you say otherwise under [kinds]."
        )
    if unseen:
        out.note(f"The target could not be looked at, so no tiers are in the space: {unseen}")
    if around.tiers:
        out.note(
            "Tiers are compared by what they cost: name a price list in the job file (prices)."
        )
    out.say(f"Wrote {', '.join(map(str, written))}.")


def _quoted(text: str) -> str:
    """A text as TOML has it."""
    import json

    return json.dumps(text, ensure_ascii=False)


def _list(texts: Sequence[str]) -> str:
    return f"[{', '.join(map(_quoted, texts))}]"

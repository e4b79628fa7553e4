"""`splarn doctor`: what is installed and reachable, and what runs larger than it should."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import AsJson, DepotPlace, JobFile, TargetUrl
from splarn.cli.tables import text

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output

# What each extra brings, and what it is for.
PACKAGES = (
    ("psycopg", "postgresql", "PostgreSQL targets"),
    ("duckdb", "duckdb", "DuckDB targets"),
    ("pymysql", "mariadb", "MariaDB and MySQL targets"),
    ("httpx", "places", "HTTP sources and depots, Millrace"),
    ("fsspec", "places", "s3: and other places"),
    ("python-calamine", "sheets", "spreadsheets"),
    ("uvicorn", "standin", "simulated services"),
    ("starlette", "standin", "simulated services"),
    ("pandas", "notebook", "frames in notebooks"),
    ("pyiceberg", "lake", "lakes"),
    ("adbc-driver-flightsql", "flight", "engines over Flight SQL"),
)
# Programs that a runbook's steps call, which others may run elsewhere.
PROGRAMS = (
    ("psql", "postgresql-client"), ("mariadb", "mariadb-client"), ("sqlite3", "sqlite3"),
    ("duckdb", ""),
)  # fmt: skip


def doctor(
    to: TargetUrl = None,
    restore: Annotated[
        bool,
        typer.Option("--restore", help="Size a forgotten compute back to its resting tier."),
    ] = False,
    probing: Annotated[
        bool,
        typer.Option(
            "--probe",
            help="Measure what disk, memory, codecs, loopback, target and depot can do at most.",
        ),
    ] = False,
    engine: Annotated[
        Path | None,
        typer.Option(
            "--engine", metavar="FILE", help="Try a description of an engine, and say what holds."
        ),
    ] = None,
    like: Annotated[
        str | None,
        typer.Option(
            "--like", metavar="NAME", help="With --engine: write FILE like a shipped description."
        ),
    ] = None,
    depot: DepotPlace = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Tell what is installed, whether the target answers, and what compute is left running large.

    Example: [bold]splarn doctor --to millrace://127.0.0.1:27620[/bold]

    Exit code 1 when a compute runs above its resting tier and no load uses it, 3 when the target
    cannot be reached. The resting tier is what a broken-off load noted, or target.read_tier of the
    job file. With --engine every statement of a description is tried on scratch tables with three
    small parts, by way of --depot where one is named.
    """
    from splarn.cli.context import Context
    from splarn.core.kernel import available

    context = Context(job, as_json)
    out = context.out
    if engine is not None:
        from splarn.cli.describing import begin_like, try_description

        if like is not None:
            begin_like(context, engine, like)
            return 0
        return try_description(context, engine, depot)
    packages = _packages()
    programs = _programs()
    kernel = available()
    out.table(
        ["package", text("version"), "for"],
        ((one["name"], one["version"] or "missing", one["for"]) for one in packages),
    )
    install = _installing(packages, programs, kernel)
    for what, words in install:
        out.note(f"{what}: {words}")
    if not install:
        out.good("Nothing is missing.")
    document: dict[str, Any] = {
        "packages": packages, "programs": programs, "kernel": kernel,
        "install": [words for _, words in install], "target": None, "compute": None,
    }  # fmt: skip
    code = 0
    if to or context.job.target.url:
        code = _target(context, out, context.target(to), restore, document)
    else:
        out.say("No target is named: --to URL or a job file lets the doctor look at one.")
    if probing and code != 3:
        from splarn.cli.probe import probe

        context.check_ledger()
        named = bool(to or context.job.target.url)
        document["probe"] = probe(context, context.target(to) if named else None)
    out.document(document)
    return code


def _packages() -> list[dict[str, Any]]:
    from importlib.metadata import PackageNotFoundError, version

    def found(name: str) -> str | None:
        try:
            return version(name)
        except PackageNotFoundError:
            return None

    return [
        {"name": name, "version": found(name), "extra": extra, "for": purpose}
        for name, extra, purpose in PACKAGES
    ]


def _programs() -> list[dict[str, Any]]:
    from shutil import which

    return [{"name": name, "found": which(name) is not None} for name, _ in PROGRAMS]


def _installing(
    packages: list[dict[str, Any]], programs: list[dict[str, Any]], kernel: bool
) -> list[tuple[str, str]]:
    """What is missing, and the command that brings it."""
    import shutil

    extras = sorted({one["extra"] for one in packages if one["version"] is None})
    found = []
    if extras:
        words = f"pip install 'splarn[{','.join(extras)}]'"
        found.append(("Packages of extras are missing", words))
    if not kernel:
        found.append((
            "The kernel in C was not built, and reading takes several times as long: with a C "
            "compiler here",
            "pip install --force-reinstall --no-cache-dir --no-deps splarn",
        ))  # fmt: skip
    absent = {one["name"] for one in programs if not one["found"]}
    if shutil.which("apt-get") is not None:
        wanted = [package for name, package in PROGRAMS if name in absent and package]
        if wanted:
            found.append((
                "Clients that runbooks call are missing", f"apt-get install {' '.join(wanted)}"
            ))  # fmt: skip
    elif absent - {"duckdb"}:
        found.append((
            "Clients that runbooks call are missing",
            f"install {', '.join(sorted(absent - {'duckdb'}))} with this system's packages",
        ))  # fmt: skip
    return found


def _target(
    context: Context, out: Output, url: str, restore: bool, document: dict[str, Any]
) -> int:
    from splarn.core.errors import OutsideError
    from splarn.engines import opener

    open_engine = opener(url)
    engine = open_engine()
    document["target"] = {"place": engine.place, "reachable": False, "unfinished": []}
    try:
        session = engine.connect()
        try:
            opened = [note for note in session.notes.loads() if note.state == "open"]
            left = [note for note in opened if session.claims.claim(note.load_id)]
            session.rollback()
        finally:
            session.close()
    except OutsideError as error:
        out.bad(str(error))
        return 3
    document["target"]["reachable"] = True
    out.good(f"{engine.place} answers.")
    for note in opened:
        if note not in left:
            out.say(f"The load {note.load_id} into {note.table} is under way.")
            continue
        document["target"]["unfinished"].append(note.load_id)
        out.note(
            f"The load {note.load_id} into {note.table} is unfinished: run its command again, "
            f"or `splarn undo {note.load_id}`."
        )
    return _compute(context, out, open_engine, engine.place, restore, document)


def _compute(
    context: Context,
    out: Output,
    open_engine: Any,
    place: str,
    restore: bool,
    document: dict[str, Any],
) -> int:
    from splarn.core.load.sizing import look_at_compute, put_back, restore_left
    from splarn.core.units import show_money

    standing = look_at_compute(open_engine, context.job.target.read_tier)
    if standing is None:
        return 0
    prices = context.prices()

    def hourly(tier: str | None) -> float | None:
        known = prices.tiers.get(tier or "")
        return None if known is None or not context.job.prices else known.per_hour

    now, then = hourly(standing.tier), hourly(standing.resting_tier)
    document["compute"] = {
        "tier": standing.tier,
        "rest": standing.resting_tier,
        "used_by": standing.living,
        "forgotten": standing.forgotten,
        "per_hour": now,
        "per_hour_at_rest": then,
        "currency": prices.currency,
    }
    costs = "" if now is None else f", which costs {show_money(now, prices.currency)} an hour"
    if standing.living:
        out.say(f"Its compute is {standing.tier}{costs}; the load {standing.living} uses it.")
        return 0
    if not standing.forgotten:
        at_rest = " at rest" if standing.resting_tier == standing.tier else ""
        out.say(f"Its compute is {standing.tier}{at_rest}{costs} while it runs.")
        return 0
    instead = "" if then is None else f" instead of {show_money(then, prices.currency)}"
    sentence = (
        f"Its compute is left at {standing.tier} and should be {standing.resting_tier}{costs}"
    )
    if not restore:
        out.bad(f"{sentence}{instead}: `splarn doctor --restore` sizes it back.")
        return 1
    restore_left(open_engine)
    if standing.resting_tier is not None:
        put_back(open_engine, standing.resting_tier)
    document["compute"] |= {"tier": standing.resting_tier, "forgotten": False}
    out.good(f"{place} was left at {standing.tier}: it is {standing.resting_tier} again.")
    return 0

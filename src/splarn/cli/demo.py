"""`splarn demo`: the whole path on made-up data."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.misuse import read
from splarn.cli.options import AsJson
from splarn.core.units import plural

# Runs a command line and gives its exit code.
Commands = Callable[..., Any]

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.demo.scenario import Delivery
    from splarn.demo.walk import Stage


def demo(
    context: typer.Context,
    into: Annotated[
        Path, typer.Option("--into", metavar="DIR", help="New or empty folder to work in.")
    ] = Path("larkmere"),
    rows: Annotated[
        str, typer.Option("--rows", metavar="N", help="Passages to make up.")
    ] = "250_000",
    seed: Annotated[
        int, typer.Option("--seed", metavar="S", min=0, help="Another seed, other data.")
    ] = 7,
    elastic: Annotated[
        bool,
        typer.Option(
            "--elastic",
            help="The second act: a depot, and a compute that is rented by size. Goes on in the "
            "folder of the first.",
        ),
    ] = False,
    as_json: AsJson = False,
) -> int:
    """Make up the data of a canal authority and walk the whole path on it.

    Example: [bold]splarn demo --into larkmere --rows 1_000_000[/bold]

    Every stage is shown with the command that does it alone, and the folder is left in place so
    that each can be tried by hand. With --elastic the services are simulated ones on loopback.
    """
    from splarn.cli.output import Output

    out = Output(as_json)
    out.head("Larkmere Waterways: a made-up canal authority")
    delivery = _delivery(out, into, rows, seed, elastic)
    with _entered(into):
        act = _second_act if elastic else _first_act
        document = act(out, delivery, context.find_root().command.main)
    out.say(f"Everything is in {into}; go there and try each command by hand.")
    out.document({"into": str(into), **document})
    return 0 if document["exact"] and document["verified"] else 1


def _delivery(out: Output, into: Path, rows: str, seed: int, elastic: bool) -> Delivery:
    """Made-up data in a new folder, or for the second act those of the first."""
    from splarn.core.errors import RequestError
    from splarn.core.units import parse_count, show_count, show_size
    from splarn.demo.scenario import known_passages, make_passages
    from splarn.demo.walk import write_job

    count = read("--rows", parse_count, rows)
    if count < 1000:
        raise RequestError(
            f"The demo needs 1,000 rows or more, not {count:,}: give a larger --rows."
        )
    if elastic and (into / "standin").exists():
        raise RequestError(
            f"The second act has been played in {into}: name another folder with --into, or remove "
            "its standin, elastic-parts and elastic-plan.json."
        )
    if elastic and (into / "delivery" / "truth.json").is_file():
        delivery = known_passages(into / "delivery")
        out.say(f"Going on with the {show_count(delivery.rows)} passages that are in {into}.")
        return delivery
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise RequestError(
            f"{into} is already there and not empty: name another folder with --into, or remove it."
        )
    delivery = make_passages(into / "delivery", count, seed, out.progress())
    write_job(into, delivery)
    out.say(
        f"Made {show_count(delivery.rows)} passages of boats through locks in "
        f"{len(delivery.paths)} files ({show_size(delivery.bytes)}) under {into}; "
        f"{len(delivery.spoiled)} rows are spoiled on purpose."
    )
    return delivery


@contextlib.contextmanager
def _entered(into: Path) -> Iterator[None]:
    from splarn.core.work.disk import outside

    home = Path.cwd()
    with outside(f"Entering {into}"):
        os.chdir(into)
    try:
        yield
    finally:
        os.chdir(home)


def _first_act(out: Output, delivery: Delivery, command: Commands) -> dict[str, object]:
    from splarn.demo.walk import STAGES

    _walk(out, STAGES, command)
    return _outcome(out, delivery)


def _second_act(out: Output, delivery: Delivery, command: Commands) -> dict[str, object]:
    from splarn.core.job import read_job
    from splarn.demo.elastic import JOB_FILE, stages, write_elastic
    from splarn.standin.both import standing_in, usual_ports
    from splarn.standin.millrace.physics import EnginePhysics
    from splarn.standin.physics import DepotPhysics, read_physics

    line = read_physics("miniature", "depot", DepotPhysics)
    physics = read_physics("miniature", "millrace", EnginePhysics)
    with standing_in(Path("standin"), line, physics, usual_ports()) as (depot, engine):
        write_elastic(Path(), delivery.bytes, engine)
        out.say(
            f"A simulated depot answers at {depot}, and Millrace, a simulated engine whose compute "
            f"is rented by size, at {engine}. Its clock is simulated: minutes pass in seconds."
        )
        part_size = read_job(Path(JOB_FILE)).space.values()["part_size"][0]
        _walk(out, stages(depot, str(part_size), Path("layout.json").exists()), command)
        return _outcome(out, delivery)


def _walk(out: Output, stages: Sequence[Stage], command: Commands) -> None:
    """Runs each stage's own command line; what it prints is what the demo shows."""
    for stage in stages:
        out.say()
        out.head(stage.title)
        out.say(f"  $ splarn {' '.join(stage.words)}")
        _run(command, stage.words, out.as_json, stage.may_fall_short)


def _outcome(out: Output, delivery: Delivery) -> dict[str, object]:
    """Holds the last run against what was made up."""
    from splarn.core.ledger import Ledger
    from splarn.core.units import show_count

    ledger = Ledger(Path())
    run = ledger.last("run")
    ledger.close()
    assert run is not None, "the last stage is a run"
    loaded = run.document["load"]["rows_loaded"]
    exact = loaded == delivery.good
    out.say()
    if exact:
        out.good(
            f"Loaded {plural(round(loaded), 'row')}: exactly the {show_count(delivery.good)} "
            "good ones "
            f"of {show_count(delivery.rows)}, and none of the {len(delivery.spoiled)} spoiled."
        )
    else:
        out.bad(
            f"Loaded {plural(round(loaded), 'row')} where {show_count(delivery.good)} are good; "
            "this is "
            "a fault of Splarn: please report it."
        )
    return {
        "rows": delivery.rows,
        "good": delivery.good,
        "bad": len(delivery.spoiled),
        "rows_loaded": loaded,
        "exact": exact,
        "verified": run.document["load"]["verified"],
        "configuration": run.document["configuration"],
        "forecast": run.document["forecast"],
        "actual": run.document["actual"],
        "error_pct": run.document["error_pct"],
    }


def _run(command: Commands, words: tuple[str, ...], quiet: bool, may_fall_short: bool) -> None:
    import io

    from splarn.core.errors import ShortfallError

    # Under --json the stages' own text would be a second document.
    hush = contextlib.redirect_stdout(io.StringIO()) if quiet else contextlib.nullcontext()
    with hush:
        code = command(list(words), prog_name="splarn", standalone_mode=False)
    if code and not may_fall_short:
        raise ShortfallError(
            f"The demo stopped because `splarn {' '.join(words)}` fell short (exit code {code})."
        )

"""`splarn demo`: the whole path on made-up data."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.options import AsJson

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.demo.scenario import Delivery


def demo(
    into: Annotated[
        Path, typer.Option("--into", metavar="DIR", help="New or empty folder to work in.")
    ] = Path("larkmere"),
    rows: Annotated[
        str, typer.Option("--rows", metavar="N", help="Passages to make up.")
    ] = "250_000",
    seed: Annotated[
        int, typer.Option("--seed", metavar="S", min=0, help="Another seed, other data.")
    ] = 7,
    as_json: AsJson = False,
) -> int:
    """Make up the data of a canal authority and walk the whole path on it.

    Example: [bold]splarn demo --into larkmere --rows 1_000_000[/bold]

    Every stage is shown with the command that does it alone, and the folder is left in place so
    that each can be tried by hand.
    """
    from splarn.cli.output import Output
    from splarn.core.errors import RequestError
    from splarn.core.files import outside
    from splarn.core.units import parse_count, show_count, show_size
    from splarn.demo.scenario import make_passages
    from splarn.demo.walk import write_job

    out = Output(as_json)
    count = parse_count(rows)
    if count < 1000:
        raise RequestError(
            f"The demo needs 1,000 rows or more, not {count:,}: give a larger --rows."
        )
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise RequestError(
            f"{into} is already there and not empty: name another folder with --into, or remove it."
        )
    out.head("Larkmere Waterways: a made-up canal authority")
    delivery = make_passages(into / "delivery", count, seed, out.progress())
    write_job(into, delivery)
    out.say(
        f"Made {show_count(delivery.rows)} passages of boats through locks in "
        f"{len(delivery.paths)} files ({show_size(delivery.bytes)}) under {into}; "
        f"{len(delivery.spoiled)} rows are spoiled on purpose."
    )
    home = Path.cwd()
    with outside(f"Entering {into}"):
        os.chdir(into)
    try:
        document = _walk(out, delivery, into)
    finally:
        os.chdir(home)
    out.document(document)
    return 0 if document["exact"] and document["verified"] else 1


def _walk(out: Output, delivery: Delivery, into: Path) -> dict[str, object]:
    """Runs each stage's own command line; what it prints is what the demo shows."""
    from splarn.core.ledger import Ledger
    from splarn.core.units import show_count
    from splarn.demo.walk import STAGES

    for stage in STAGES:
        out.say()
        out.head(stage.title)
        out.say(f"  $ splarn {' '.join(stage.words)}")
        _command(stage.words, out.as_json, stage.may_fall_short)
    ledger = Ledger(Path())
    run = ledger.last("run")
    ledger.close()
    assert run is not None, "the last stage is a run"
    loaded = run.document["load"]["rows_loaded"]
    exact = loaded == delivery.good
    out.say()
    if exact:
        out.good(
            f"Loaded {show_count(loaded)} rows: exactly the {show_count(delivery.good)} good ones "
            f"of {show_count(delivery.rows)}, and none of the {len(delivery.spoiled)} spoiled."
        )
    else:
        out.bad(
            f"Loaded {show_count(loaded)} rows where {show_count(delivery.good)} are good; this is "
            "a fault of Splarn: please report it."
        )
    out.say(f"Everything is in {into}; go there and try each command by hand.")
    return {
        "into": str(into),
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


def _command(words: tuple[str, ...], quiet: bool, may_fall_short: bool) -> None:
    import contextlib
    import io

    from splarn.cli.app import app
    from splarn.core.errors import ShortfallError

    # Under --json the stages' own text would be a second document.
    hush = contextlib.redirect_stdout(io.StringIO()) if quiet else contextlib.nullcontext()
    with hush:
        code = app(list(words), prog_name="splarn", standalone_mode=False)
    if code and not may_fall_short:
        raise ShortfallError(
            f"The demo stopped because `splarn {' '.join(words)}` fell short (exit code {code})."
        )

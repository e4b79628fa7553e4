"""The commands, grouped as a practitioner meets them."""

from __future__ import annotations

from typing import Annotated

import typer

from splarn import __version__
from splarn.cli import (
    check,
    demo,
    forecast,
    layout,
    ledger,
    load,
    plan,
    run,
    shape,
    survey,
    sweep,
)

app = typer.Typer(
    name="splarn",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode="rich",
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"splarn {__version__}")
        raise typer.Exit


@app.callback()
def splarn(
    version: Annotated[
        bool,
        typer.Option("--version", callback=_version, is_eager=True, help="Show the version."),
    ] = False,
) -> None:
    """Plan large bulk loads from measurements, then load exactly once.

    Know the data, prepare parts, try configurations on a sample, learn how time and cost follow,
    choose under a deadline and a budget, run it, and hold the forecast against what happened.

    New here? [bold]splarn demo[/bold] walks the whole path on made-up data in under a minute.
    """


for panel, commands in (
    ("Begin", (demo.demo,)),
    ("Know the data", (survey.survey, layout.layout, check.check)),
    ("Prepare", (shape.shape,)),
    ("Load", (load.load, ledger.ledger)),
    ("Measure", (sweep.sweep,)),
    ("Decide", (forecast.forecast, plan.plan, run.run)),
):
    for command in commands:
        app.command(rich_help_panel=panel)(command)

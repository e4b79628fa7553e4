"""The commands, grouped as a practitioner meets them."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Annotated

import typer

from splarn import __version__
from splarn.cli.check import check
from splarn.cli.demo import demo
from splarn.cli.doctor import doctor
from splarn.cli.forecast import forecast
from splarn.cli.layout import layout
from splarn.cli.ledger import ledger
from splarn.cli.load import load
from splarn.cli.plan import plan
from splarn.cli.run import run
from splarn.cli.shape import shape
from splarn.cli.ship import ship
from splarn.cli.standin import standin
from splarn.cli.survey import survey
from splarn.cli.sweep import sweep
from splarn.cli.undo import undo

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


def _unwrapped(command: Callable[..., object]) -> str:
    """A docstring whose paragraphs are broken only where the terminal is narrow."""
    text = inspect.getdoc(command) or ""
    return "\n\n".join(" ".join(paragraph.split()) for paragraph in text.split("\n\n"))


for panel, commands in (
    ("Begin", (demo, doctor, standin)),
    ("Know the data", (survey, layout, check)),
    ("Prepare", (shape, ship)),
    ("Load", (load, undo, ledger)),
    ("Measure", (sweep,)),
    ("Decide", (forecast, plan, run)),
):
    for command in commands:
        app.command(rich_help_panel=panel, help=_unwrapped(command))(command)

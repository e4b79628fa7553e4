"""The commands, grouped as a practitioner meets them."""

from __future__ import annotations

import difflib
import inspect
from typing import Annotated, Any

import typer

from splarn import __version__
from splarn.cli.check import check
from splarn.cli.demo import demo
from splarn.cli.doctor import doctor
from splarn.cli.forecast import forecast
from splarn.cli.help import Command, CommandGroup, command_help, overview
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
from splarn.core.errors import RequestError

app = typer.Typer(
    name="splarn",
    cls=CommandGroup,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"splarn {__version__}")
        raise typer.Exit


@app.callback(invoke_without_command=True)
def splarn(
    context: typer.Context,
    version: Annotated[
        bool,
        typer.Option("--version", callback=_version, is_eager=True, help="Show the version."),
    ] = False,
) -> None:
    """Plan large bulk loads from measurements, then load exactly once.

    Know the data, prepare parts, try configurations on a sample, learn how time and cost follow,
    choose under a deadline and a budget, run it, and hold the forecast against what happened.

    New here? `splarn demo` walks the whole path on made-up data in about a minute, and `splarn help
    COMMAND` says what a command takes.
    """
    if context.invoked_subcommand is None:
        print(overview(context.command, context))


def help_(
    context: typer.Context,
    command: Annotated[
        str | None, typer.Argument(metavar="COMMAND", help="The command; all of them without it.")
    ] = None,
) -> None:
    """Say what a command does and takes.

    Example: [bold]splarn help load[/bold]
    """
    root = context.find_root()
    group: Any = root.command
    if command is None:
        print(overview(group, root))
        return
    found = group.get_command(root, command)
    if found is None:
        near = difflib.get_close_matches(command, group.list_commands(root), 1)
        raise RequestError(
            f"There is no command {command!r}: "
            + (f"did you mean {near[0]}?" if near else "`splarn help` lists them all.")
        )
    print(command_help(found, typer.Context(found, parent=root, info_name=command)))


for panel, commands in (
    ("Begin", (demo, doctor, standin)),
    ("Know the data", (survey, layout, check)),
    ("Prepare", (shape, ship)),
    ("Load", (load, undo, ledger)),
    ("Measure", (sweep,)),
    ("Decide", (forecast, plan, run)),
):
    for command in commands:
        app.command(cls=Command, rich_help_panel=panel, help=inspect.getdoc(command))(command)
app.command("help", cls=Command, rich_help_panel="Begin")(help_)

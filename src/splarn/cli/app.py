"""The commands, grouped as a practitioner meets them."""

from __future__ import annotations

import inspect
from collections.abc import Sequence
from importlib import import_module
from typing import Annotated, Any

import typer

from splarn.cli.help import Command, CommandGroup, command_help, overview
from splarn.cli.misuse import no_command
from splarn.cli.voice import with_voice
from splarn.core.errors import RequestError
from splarn.version import __version__

# In the order of the work. Each command is the function of its name in the module of its name.
PANELS = {
    "Begin": ("demo", "new", "doctor", "standin"),
    "Know the data": ("survey", "layout", "check"),
    "Prepare": ("shape", "ship"),
    "Load": ("load", "undo", "unload", "compact", "ledger"),
    "Measure": ("sweep", "compare"),
    "Decide": ("forecast", "plan", "run"),
    "Share": ("report", "plot", "runbook"),
}


def _version(wanted: bool) -> None:
    if wanted:
        print(f"splarn {__version__}")
        raise typer.Exit


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
    known = group.get_command(root, command)
    if known is None:
        wrong = no_command(command, group.list_commands(root))
        raise RequestError(f"{wrong}: `splarn help` lists them all.")
    print(command_help(known, typer.Context(known, parent=root, info_name=command)))


def application(arguments: Sequence[str] = ()) -> typer.Typer:
    """The whole program, or what of it a command line needs: importing the rest takes its time."""
    app = typer.Typer(
        name="splarn",
        cls=CommandGroup,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback(invoke_without_command=True)(splarn)
    first = next((word for word in arguments if not word.startswith("-")), "")
    # The demo gives other commands itself.
    known = {name for names in PANELS.values() for name in names} - {"demo"}
    for panel, names in PANELS.items():
        for name in names:
            if first not in known or name == first:
                command = getattr(import_module(f"splarn.cli.{name}"), name)
                text = inspect.getdoc(command)
                whole = with_voice(command)
                app.command(cls=Command, rich_help_panel=panel, help=text)(whole)
    app.command("help", cls=Command, rich_help_panel="Begin")(help_)
    return app

"""Options that several commands share, each said once."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Annotated, Any, get_type_hints

import typer

from splarn.cli.completing import ids_of, tables, targets, values_of
from splarn.core.target.levers import Lever

AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document instead of text.")]
JobFile = Annotated[
    Path | None,
    typer.Option("--job", metavar="FILE", help="Job file; splarn.toml here when it is there."),
]
Paths = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="PATH…", help="Files, folders or patterns; the job's source when left out."
    ),
]
LayoutFile = Annotated[
    Path | None,
    typer.Option(
        "--layout", metavar="FILE", help="Layout file; the job's, or inferred from samples."
    ),
]
TargetUrl = Annotated[
    str | None,
    typer.Option(
        "--to",
        metavar="URL",
        help="Target, such as sqlite:///larkmere.db or postgresql://user@host/db.",
        autocompletion=targets,
    ),
]
DepotPlace = Annotated[
    str | None,
    typer.Option(
        "--depot", metavar="PLACE", help="Parts go by way of this depot; the job's when left out."
    ),
]
TableName = Annotated[
    str | None,
    typer.Option("--table", metavar="NAME", help="Table to fill.", autocompletion=tables),
]
Workers = Annotated[
    int | None,
    typer.Option("--workers", metavar="N", min=1, help="How many work at once; one a core."),
]
OnCluster = Annotated[
    str | None,
    typer.Option(
        "--cluster",
        metavar="WHERE",
        help="Work on a Dask cluster: its scheduler's address or file, local:N, or here.",
        rich_help_panel="Cluster",
    ),
]
PerMachine = Annotated[
    int | None,
    typer.Option(
        "--per-machine",
        metavar="N",
        min=1,
        help="At most so many at work on one machine of it.",
        rich_help_panel="Cluster",
    ),
]
LoadTier = Annotated[
    str | None,
    typer.Option("--tier", metavar="NAME", help="Size of the compute while rows come in, as u20."),
]
ReadTier = Annotated[
    str | None,
    typer.Option(
        "--read-tier", metavar="NAME", help="Its size for verifying and after; what it was before."
    ),
]
SweepId = Annotated[
    str | None,
    typer.Option(
        "--sweep",
        metavar="ID",
        help="Sweep to learn from; the newest when left out.",
        autocompletion=ids_of("sweep"),
    ),
]
VolumeSize = Annotated[
    str | None,
    typer.Option(
        "--volume", metavar="SIZE", help="Unpacked size to forecast for; the source's by default."
    ),
]
AskedQuestions = Annotated[
    list[str] | None,
    typer.Option(
        "--question",
        metavar="WORDS",
        help="What is going to be asked, as 'columns(toll) where(entered 2031-04) monthly(900)'; "
        "repeatable.",
        rich_help_panel="Questions",
    ),
]
AskedMonths = Annotated[
    float | None,
    typer.Option(
        "--months",
        metavar="N",
        min=0.01,
        help="How long the rows are kept and asked; 12 when left out.",
        rich_help_panel="Questions",
    ),
]
Settings = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        help="A parameter of the job's source, depot and table, as month=2031-07; repeatable.",
    ),
]
Yes = Annotated[bool, typer.Option("--yes", help="Agree to what would otherwise be asked.")]

# The values that options give to levers, by the levers' names; what was not given is left out.
Choices = dict[str, Any]
NO_CHOICES: Choices = {}


def takes_levers(
    levers: Mapping[str, Lever], one: bool = False
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Gives a command an option for each lever, in place of its parameter `choices`.

    Each option takes several values parted by commas or, of `one`, a single one.
    """

    def option(lever: Lever) -> inspect.Parameter:
        kept = f" (default: {lever.usual})" if one and lever.defaults else ""
        info = typer.Option(
            lever.option,
            *lever.also,
            metavar="VALUE" if one else lever.metavar,
            help=lever.help + kept,
            rich_help_panel="Levers",
            autocompletion=values_of(lever.name),
        )
        kind = Annotated[str | None, info]
        return inspect.Parameter(lever.name, KEYWORD, default=None, annotation=kind)

    def wrap(command: Callable[..., Any]) -> Callable[..., Any]:
        hints = get_type_hints(command, include_extras=True)
        parameters: list[inspect.Parameter] = []
        for name, parameter in inspect.signature(command).parameters.items():
            if name == "choices":
                parameters += map(option, levers.values())
            else:
                parameters.append(parameter.replace(annotation=hints[name], kind=KEYWORD))

        def run(**given: Any) -> Any:
            chosen: Choices = {}
            for name in levers:
                value = given.pop(name)
                if value is not None:
                    chosen[name] = value if one else value.split(",")
            return command(**given, choices=chosen)

        run.__name__, run.__doc__ = command.__name__, command.__doc__
        run.__annotations__ = {one.name: one.annotation for one in parameters}
        run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        return run

    return wrap


KEYWORD = inspect.Parameter.KEYWORD_ONLY

"""`splarn plot`: one figure alone."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from splarn.cli.completing import figures
from splarn.cli.options import AsJson, JobFile

PICTURES = (".png", ".svg")


def plot(
    name: Annotated[
        str,
        typer.Argument(metavar="NAME", help="Which figure; see below.", autocompletion=figures),
    ],
    plan: Annotated[
        Path | None,
        typer.Argument(metavar="[PLAN]", help="A plan file; the newest one if left out."),
    ] = None,
    out_file: Annotated[
        Path | None,
        typer.Option("--out", metavar="FILE", help="A .png or .svg; NAME.png if left out."),
    ] = None,
    dark: Annotated[bool, typer.Option("--dark", help="For a dark background.")] = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Draw one figure of a report alone.

    Example: [bold]splarn plot frontier --out frontier.svg[/bold]

    Figures: frontier, phases, streams, tiers, parts, codecs, history, drift, ceilings.
    """
    from splarn.cli.context import Context
    from splarn.cli.decided import decided
    from splarn.core.errors import RequestError
    from splarn.core.work.disk import write_bytes
    from splarn.core.work.words import nearest

    context = Context(job, as_json)
    from splarn.report.figures import FIGURES, drawn, saved
    from splarn.report.palette import DARK, LIGHT

    if name not in FIGURES:
        hint = nearest(name, FIGURES)
        raise RequestError(f"There is no figure {name!r}{hint}: use {', '.join(FIGURES)}.")
    path = out_file or Path(f"{name}.png")
    if path.suffix not in PICTURES:
        raise RequestError(
            f"--out: {path.name} is no picture: name a file that ends in {' or '.join(PICTURES)}."
        )
    colours = DARK if dark else LIGHT
    told = decided(context, plan)
    canvas = drawn(FIGURES[name], told, colours)
    write_bytes(path, saved(canvas, colours, path.suffix[1:], name))
    context.out.say(f"Wrote {path}: {FIGURES[name].words(told)}")
    context.out.document({"files": [str(path)], "words": FIGURES[name].words(told)})

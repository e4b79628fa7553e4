"""`splarn report`: what was found out, for those who look rather than read."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.completing import ids_of
from splarn.cli.options import AsJson, JobFile

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.report.facts import Decided
    from splarn.report.page import Page

FORMS = (".html", ".md")

What = Annotated[
    str | None,
    typer.Argument(
        metavar="[PLAN|ID|FILE]",
        help="A plan file, a load or run of the ledger, or what a command said with --json; "
        "the newest plan if left out.",
        autocompletion=ids_of("plan", "run", "load"),
    ),
]


def report(
    what: What = None,
    out_file: Annotated[
        Path, typer.Option("--out", metavar="FILE", help="A page (.html) or Markdown (.md).")
    ] = Path("report.html"),
    figures: Annotated[
        Path | None,
        typer.Option("--figures", metavar="DIR", help="Put each figure there as PNG and SVG too."),
    ] = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Write what was found out as one page: the decision, its figures, all configurations.

    Example: [bold]splarn report --out report.html --figures figures[/bold]

    The page is one file that needs no network. Of a load, a run, or a document that survey, check
    or compare wrote with --json, it says what came of that.
    """
    import os

    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.work.disk import write_text

    context = Context(job, as_json)
    if out_file.suffix not in FORMS:
        raise RequestError(
            f"--out: {out_file.name} is no page: name a file that ends in {' or '.join(FORMS)}."
        )
    from splarn.report.page import as_html, as_markdown, pictures

    page = page_of(context, what)
    written, tall = [out_file], out_file.suffix == ".md"
    with context.out.working("drawing"):
        folder = figures or (out_file.with_suffix("") if tall else None)
        beside = {}
        if folder is not None and page.figures:
            beside = pictures(page.figures, folder, figures is not None)
            written += [path for paths in beside.values() for path in paths]
        if tall:
            names = {
                name: os.path.relpath(paths[0], out_file.parent) for name, paths in beside.items()
            }
            write_text(out_file, as_markdown(page, names))
        else:
            write_text(out_file, as_html(page))
    if not page.figures and figures is not None:
        context.out.note("There is nothing to draw of this.")
    more = f" and {len(written) - 1} figures" if len(written) > 1 else ""
    context.out.say(f"{page.title}: wrote {out_file}{more}.")
    context.out.document({"files": [str(path) for path in written]})


def page_of(context: Context, what: str | None) -> Page:
    """The page of whatever is named."""
    from splarn.cli.decided import decided
    from splarn.core.errors import RequestError
    from splarn.report.document import page_of_document, page_of_entry

    if what is None:
        return _page_of_plan(decided(context, None))
    path = Path(what)
    if path.exists():
        document = _read(path)
        if "splarn_plan" in document:
            return _page_of_plan(decided(context, path))
        return page_of_document(document, path.name)
    with context.ledger() as ledger:
        try:
            entry = ledger.find(what)
        except RequestError:
            raise RequestError(
                f"{what} is neither a file nor an entry of the ledger: name a plan, a load or a "
                "run (`splarn ledger` lists them), or a JSON document."
            ) from None
    if entry.kind == "plan":
        named = Path(str(entry.document.get("plan") or ""))
        return _page_of_plan(decided(context, named))
    return page_of_entry(entry)


def _page_of_plan(told: Decided) -> Page:
    from splarn.report.decision import page_of_decision

    return page_of_decision(told)


def _read(path: Path) -> dict[str, Any]:
    """A JSON document. Raises RequestError for what is none."""
    import json

    from splarn.core.errors import RequestError
    from splarn.core.work.disk import outside

    with outside(f"Reading {path}"):
        data = path.read_bytes()
    try:
        document = json.loads(data)
    except ValueError:
        document = None
    if not isinstance(document, dict):
        raise RequestError(f"{path} is no JSON document: give what a command wrote with --json.")
    return document

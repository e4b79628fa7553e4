"""Reports as pages: one HTML file with everything in it, or Markdown with figures beside it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from splarn.core.work.disk import outside
from splarn.report.facts import Table
from splarn.report.figures import Figure, drawn, saved
from splarn.report.palette import DARK, LIGHT, as_variables, css


@dataclass(frozen=True)
class Shown:
    """A figure as a page has it: its SVG takes the page's colours."""

    name: str
    title: str
    words: str
    svg: object
    png: bytes
    vector: bytes


@dataclass(frozen=True)
class Page:
    """What a report says, in the order in which it is read; `lists` are titled sentences."""

    kind: str
    title: str
    below: tuple[str, ...]
    sentences: tuple[str, ...]
    figures: tuple[Shown, ...] = ()
    tables: tuple[Table, ...] = ()
    lists: tuple[tuple[str, tuple[str, ...]], ...] = ()
    method: tuple[tuple[str, str], ...] = ()


def shown(figure: Figure, told: object) -> Shown:
    """A figure drawn for a page."""
    from markupsafe import Markup

    canvas = drawn(figure, told, LIGHT)
    vector, words = saved(canvas, LIGHT, "svg", figure.name), figure.words(told)
    return Shown(
        figure.name, figure.title, words, Markup(inline(vector.decode(), figure.title, words)),
        saved(canvas, LIGHT, "png"), vector,
    )  # fmt: skip


def inline(svg: str, title: str, words: str) -> str:
    """An SVG to stand within a page: in its colours, of its font, and told to those who hear it."""
    from markupsafe import escape

    body = svg[svg.index("<svg") :]
    body = re.sub(r"<metadata>.*?</metadata>", "", body, flags=re.S)
    body = re.sub(r'\s(?:width|height)="[0-9.]+pt"', "", body, count=2)
    # Names that nothing points to would come again in the next figure.
    used = set(re.findall(r'(?:url\(|href=")#([^)"]+)', body))
    body = re.sub(r' id="([^"]+)"', lambda one: one[0] if one[1] in used else "", body)
    label = escape(f"{title}. {words}")
    body = body.replace("<svg", f'<svg role="img" aria-label="{label}"', 1)
    # The page's own font; what its letters take is near enough.
    body = body.replace("'DejaVu Sans'", "inherit")
    return as_variables(body, LIGHT)


def as_html(page: Page) -> str:
    """The page as one file that needs nothing else; every text is escaped."""
    from jinja2 import Environment, StrictUndefined

    text = files("splarn.report").joinpath("page.html.j2").read_text(encoding="utf-8")
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    from markupsafe import Markup

    return environment.from_string(text).render(
        **page.__dict__, light=Markup(css(LIGHT)), dark=Markup(css(DARK))
    )


def as_markdown(page: Page, pictures: Mapping[str, str]) -> str:
    """The page for a ticket; `pictures` are files beside it, by the figures' names."""
    lines = [f"# {_plain(page.title)}", "", *(_plain(one) for one in page.below), ""]
    lines += [line for one in page.sentences for line in (_plain(one), "")]
    for one in page.figures:
        lines += [f"## {one.title}", "", f"![{_plain(one.title)}]({pictures[one.name]})", ""]
        lines += [_plain(one.words), ""]
    for table in page.tables:
        lines += [f"## {_plain(table.title)}", "", *_table(table), ""]
    for name, told in page.lists:
        if told:
            lines += [f"## {name}", "", *(f"- {_plain(one)}" for one in told), ""]
    if page.method:
        lines += ["## How it was measured", ""]
        lines += [f"- {_plain(name)}: {_plain(what)}" for name, what in page.method]
    return "\n".join(lines).rstrip() + "\n"


# Longer tables are for the page; a ticket has the beginning.
MOST_ROWS = 20


def _table(table: Table) -> list[str]:
    rule = ["---:" if number else "---" for number in table.numbers]
    rows = [list(map(_plain, row)) for row in table.rows[:MOST_ROWS]]
    lines = [f"| {' | '.join(one)} |" for one in (map(_plain, table.columns), rule, *rows)]
    if len(table.rows) > MOST_ROWS:
        lines += ["", f"({len(table.rows) - MOST_ROWS:,} more rows.)"]
    return lines


def _plain(text: str) -> str:
    """Text that Markdown shows as it is."""
    return re.sub(r"([\\`*_\[\]<>|#])", r"\\\1", text.replace("\n", " "))


def pictures(figures: Sequence[Shown], folder: Path, vectors: bool) -> dict[str, list[Path]]:
    """Writes figures as PNG files, and as SVG beside them where `vectors` are wanted too.

    Raises OutsideError where the disk refuses.
    """
    made: dict[str, list[Path]] = {}
    with outside(f"Writing {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
        for one in figures:
            kinds = [(".png", one.png), *([(".svg", one.vector)] if vectors else [])]
            for suffix, data in kinds:
                path = folder / f"{one.name}{suffix}"
                path.write_bytes(data)
                made.setdefault(one.name, []).append(path)
    return made

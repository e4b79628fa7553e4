"""The colours of figures and pages, for light and dark, told apart by lightness as well as hue."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

# What is drawn first has the first of these; each kind of mark also has a shape of its own.
SERIES = ("water", "amber", "plum", "moss", "brick", "straw")
MARKERS = ("o", "s", "^", "D", "v", "P")
HATCHES = ("", "//", "..", "xx", "--", "\\\\")


@dataclass(frozen=True)
class Palette:
    """Colours by what they are for."""

    paper: str
    ink: str
    quiet: str
    line: str
    water: str
    amber: str
    plum: str
    moss: str
    brick: str
    straw: str

    def series(self, number: int) -> str:
        """The colour of the series of this number."""
        return str(getattr(self, SERIES[number % len(SERIES)]))


LIGHT = Palette(
    paper="#fdfcf9", ink="#20272c", quiet="#66717a", line="#dfddd5", water="#0f6a83",
    amber="#d07a1e", plum="#6a4a9c", moss="#4c8f3f", brick="#a83250", straw="#9a8a2c",
)  # fmt: skip
DARK = Palette(
    paper="#15191d", ink="#e8e5de", quiet="#9aa4ac", line="#333b42", water="#58b7d1",
    amber="#f2a65a", plum="#ab93e0", moss="#84c777", brick="#e37f9a", straw="#cdbd62",
)  # fmt: skip


def style(palette: Palette, name: str) -> Any:
    """Matplotlib's settings for a figure in these colours; text stays text in SVG.

    What an SVG calls its pieces follows from the figure's `name`, so that several fit one page.
    """
    return {
        "svg.hashsalt": name,
        "figure.facecolor": palette.paper,
        "axes.facecolor": palette.paper,
        "savefig.facecolor": palette.paper,
        "text.color": palette.ink,
        "axes.labelcolor": palette.quiet,
        "axes.edgecolor": palette.line,
        "xtick.color": palette.quiet,
        "ytick.color": palette.quiet,
        "grid.color": palette.line,
        "axes.grid": True,
        "axes.axisbelow": True,
        "grid.linewidth": 0.7,
        "axes.spines.top": False,
        "axes.spines.right": False,
        "font.size": 10,
        "font.family": ["DejaVu Sans"],
        "axes.titlesize": 11,
        "axes.titlelocation": "left",
        "axes.titleweight": "bold",
        "legend.frameon": False,
        "legend.fontsize": 9,
        "legend.labelcolor": palette.ink,
        "hatch.linewidth": 0.6,
        "hatch.color": palette.paper,
        "svg.fonttype": "none",
    }


def as_variables(svg: str, palette: Palette) -> str:
    """An SVG's colours as variables of the page it stands in, so that both schemes fit it."""
    for name, colour in palette.__dict__.items():
        svg = svg.replace(colour, f"var(--{name})")
    return svg


def css(palette: Palette) -> str:
    """The colours as variables of a style sheet."""
    return "".join(f"--{name}:{colour};" for name, colour in palette.__dict__.items())

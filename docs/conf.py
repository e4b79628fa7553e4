"""How the documentation becomes a site: `sphinx-build docs site`."""

from __future__ import annotations

from splarn import __version__
from splarn.report.palette import DARK, LIGHT, Palette

project = "Splarn"
release = __version__
html_title = f"Splarn {__version__}"
copyright = "the Splarn developers"

extensions = ["myst_nb"]
exclude_patterns = ["generate.py", "documents.py"]
# Names of sections are told apart by the page that they are on.
myst_heading_anchors = 3
# What stands in the notebook was run on the demo's data; a test runs it anew.
nb_execution_mode = "off"
suppress_warnings = ["misc.highlighting_failure"]

html_theme = "furo"
html_static_path = ["screenshots", "schemas"]
html_copy_source = False
html_show_sphinx = False


def _variables(colours: Palette) -> dict[str, str]:
    """The report's colours, so that both look alike."""
    return {
        "color-brand-primary": colours.water,
        "color-brand-content": colours.water,
        "color-background-primary": colours.paper,
        "color-foreground-primary": colours.ink,
    }


html_theme_options = {
    "light_css_variables": _variables(LIGHT),
    "dark_css_variables": _variables(DARK),
    "navigation_with_keys": True,
}

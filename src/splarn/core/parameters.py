"""Parameters of a job: `{month}` in its source, depot and table, filled in by each command."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from splarn.core.errors import RequestError

# What stands in braces, but for names of the environment, which have a dollar before them.
_NAMED = re.compile(r"(?<!\$)\{([a-z][a-z0-9_]*)\}")
_SETTING = re.compile(r"([a-z][a-z0-9_]*)=(.+)")


def parse_settings(texts: Sequence[str]) -> dict[str, str]:
    """Values by their names, each given as `month=2031-07`.

    Raises RequestError for what is none, or where one is given twice.
    """
    found: dict[str, str] = {}
    for text in texts:
        setting = _SETTING.fullmatch(text)
        if setting is None:
            raise RequestError(
                f"--set: {text!r} gives no parameter a value; write it like month=2031-07."
            )
        name, value = setting.groups()
        if found.setdefault(name, value) != value:
            raise RequestError(f"--set: {name} is given twice, as {found[name]} and as {value}.")
    return found


def names_in(texts: Iterable[str]) -> set[str]:
    """The parameters that texts name."""
    return {name for text in texts for name in _NAMED.findall(text)}


def refuse_unknown(values: Mapping[str, str], texts: Iterable[str], where: str) -> None:
    """Raises RequestError for a value of which no text has the parameter."""
    known = names_in(texts)
    for name in values:
        if name not in known:
            there = ", ".join(f"{{{one}}}" for one in sorted(known)) or "none"
            raise RequestError(
                f"--set: no source, depot or table of {where} has {{{name}}}; there is {there}."
            )


def filled_in(text: str, values: Mapping[str, str], where: str) -> str:
    """A text with its parameters' values. Raises RequestError for one that has none."""

    def value(found: re.Match[str]) -> str:
        if found[1] not in values:
            raise RequestError(
                f"{where} has {{{found[1]}}}: give its value, as in --set {found[1]}=2031-07."
            )
        return values[found[1]]

    return _NAMED.sub(value, text)

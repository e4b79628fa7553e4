"""Reads a description of an engine, and looks it over for what no type tells."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn

from pydantic import ValidationError

from splarn.core.errors import RequestError
from splarn.core.source.secrets import tells_secret
from splarn.core.work.documents import first_wrong
from splarn.engines.described.description import Connection, Description
from splarn.engines.described.templates import VALUES, wrong_value


def read_description(path: Path) -> Description:
    """Reads and looks over a description.

    Raises RequestError in one sentence with the file, the line and what to do.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except OSError:
        raise RequestError(
            f"There is no engine's description {path}: name a TOML file, as described:engine.toml."
        ) from None
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RequestError(f"The description {path} is no TOML: {error}.") from None
    try:
        found = Description.model_validate({**document, "path": str(path)})
    except ValidationError as error:
        place, wrong = first_place(error), first_wrong(error, Description)
        raise RequestError(f"In {_at(path, text, place)}: {wrong}.") from None
    _look_over(found, path, text)
    return found


def first_place(error: ValidationError) -> tuple[str, ...]:
    """The keys that lead to the first thing that is wrong."""
    return tuple(str(piece) for piece in error.errors()[0]["loc"])


_SECRET = re.compile(r"pass|pwd|secret|token", re.IGNORECASE)
# A text in a statement, behind a word for a secret.
_SECRET_TEXT = re.compile(
    r"(?:passw(?:or)?d|pwd|secret(?:_access_key)?|token|identified\s+by)\W*'(?!\$\{)(?P<text>[^']+)",
    re.IGNORECASE,
)


def _written_out(told: Connection) -> list[tuple[str, str]]:
    """Every text of a connection with the name that it stands under, also inside of others."""
    found: list[tuple[str, str]] = [("flight", told.flight)]
    for piece in told.odbc.split(";"):
        name, _, value = piece.partition("=")
        found.append((name.strip() or "odbc", value.strip()))

    def go_in(name: str, value: Any) -> None:
        if isinstance(value, dict):
            for inner, one in value.items():
                go_in(str(inner), one)
        elif isinstance(value, list):
            for one in value:
                go_in(name, one)
        elif isinstance(value, str):
            found.append((name, value))

    go_in("arguments", told.arguments)
    for statement in told.begins:
        if _SECRET_TEXT.search(statement):
            found.append(("begins", "secret"))
    return found


def _look_over(found: Description, path: Path, text: str) -> None:
    """What no type tells. Raises RequestError."""

    def refuse(place: tuple[str, ...], wrong: str) -> NoReturn:
        raise RequestError(f"In {_at(path, text, place)}: {wrong}.")

    for place, template in templates_of(found):
        values = VALUES[_kind(place)]
        if _kind(place) in ("load", "aside"):
            values = values | found.each.keys()
        unknown = wrong_value(template, values)
        if unknown:
            known = ", ".join(f"{{{name}}}" for name in sorted(values))
            refuse(
                place,
                f"{{{unknown}}} is no value of it; there are {known or 'none'} (write a brace that "
                "is one twice)",
            )
    told = found.connection
    ways = [bool(told.module), bool(told.odbc), bool(told.flight)]
    if sum(ways) != 1:
        refuse(("connection",), "give one of module, odbc and flight")
    for name, value in _written_out(told):
        if (
            name == "begins"
            or tells_secret(value)
            or (_SECRET.search(name) and value and "${" not in value)
        ):
            key = name if name in ("odbc", "flight", "begins") else f"arguments.{name}"
            refuse(
                ("connection", key.partition(".")[0]),
                f"a secret stands there ({key}): put it into the environment and write ${{NAME}} "
                "in its place",
            )
    if tells_secret(found.engine.place):
        refuse(("engine", "place"), "leave the secret out")
    for form in found.statements.load:
        if form not in found.abilities.formats:
            refuse(
                ("abilities", "formats"),
                f"there is a statement that loads {form}, so say with which codecs",
            )
    for form in found.abilities.formats:
        if form not in found.statements.load:
            refuse(("statements", "load"), f"say what brings {form} in")
    _belong_together(found, refuse)


def _belong_together(found: Description, refuse: Callable[[tuple[str, ...], str], None]) -> None:
    """Statements that mean nothing without others."""
    told = found.statements
    for name, other, why in (
        ("times", "clock", "its moments are those of a clock"),
        ("clock", "times", "a clock is asked for the moments of parts"),
        ("start", "size", "that says whether it runs"),
        ("resize", "size", "that says when it is done"),
    ):
        if getattr(told, name) and not getattr(told, other):
            refuse(("statements", name), f"say statements.{other} too, since {why}")
    for form in told.aside:
        if form not in told.load:
            refuse(("statements", "aside"), f"there is no statement that loads {form}")
    if told.aside and not re.search(r"\{(tag|address)\}", told.refused):
        refuse(
            ("statements", "refused" if told.refused else "aside"),
            "say by statements.refused which rows of a part were left out, by its {tag} or "
            "{address}, so that it can be asked after a break too",
        )
    if told.brought:
        for place, template in templates_of(found):
            if place[1] in ("load", "aside", "brought") and "{mark}" not in template:
                refuse(
                    place,
                    "rows are told by statements.brought, so put {mark} into each of them here"
                    if place[1] != "brought"
                    else "say by {mark} which rows it holds for",
                )


def templates_of(found: Description) -> list[tuple[tuple[str, ...], str]]:
    """Every template with the keys that lead to it."""
    told: list[tuple[tuple[str, ...], str]] = []
    statements = found.statements
    for name in type(statements).model_fields:
        value, key = getattr(statements, name), "copy" if name == "copy_rows" else name
        if isinstance(value, str):
            told.append((("statements", key), value))
    for name in ("load", "aside"):
        by_format = getattr(statements, name).items()
        told += [(("statements", name, form), one) for form, one in by_format]
    for name, each in found.each.items():
        every = each.values() if isinstance(each, dict) else [each]
        told += [(("each", name), template) for template in every]
    for section in ("types", "figures"):
        one = getattr(found, section)
        told += [((section, name), getattr(one, name)) for name in type(one).model_fields]
    return told


def _kind(place: tuple[str, ...]) -> str:
    """Which values a template may have."""
    return place[1] if place[0] == "statements" else place[0]


def _at(path: Path, text: str, place: tuple[str, ...]) -> str:
    """The file and the line of a key, as near as it can be told."""
    lines = text.splitlines()
    section = next(
        (n for n, line in enumerate(lines) if re.match(rf"\s*\[+{re.escape(place[0])}\b", line)), 0
    )
    found = section
    for piece in place[1:]:
        pattern = re.compile(rf"\s*\[*[\w.]*\b{re.escape(piece)}\b")
        found = next(
            (n for n, line in enumerate(lines) if n >= found and pattern.match(line)), found
        )
    return f"{path}, line {found + 1}, {'.'.join(place)}"

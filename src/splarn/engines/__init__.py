"""Targets: one room a kind, chosen by URL and found by entry point."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from sqlalchemy.engine import URL, make_url
from sqlalchemy.exc import ArgumentError

from splarn.core.errors import RequestError
from splarn.core.source.places import is_url
from splarn.core.source.secrets import filled, hide
from splarn.core.target.session import Engine, OpenEngine
from splarn.core.work.plugins import ENGINES, load, names
from splarn.core.work.words import nearest


def parse_target(text: str) -> URL:
    """The URL of a target, `${NAME}` in it replaced from the environment.

    Raises RequestError when it is no URL, its kind is not known or a name is not set.
    """
    written = filled(text, "The target")
    try:
        url = _described(written) or make_url(written)
    except (ArgumentError, ValueError):
        raise RequestError(
            "The target is not a URL: write it like sqlite:///larkmere.db or "
            "postgresql://user@host/database."
        ) from None
    kind = url.get_backend_name()
    known = names(ENGINES)
    if kind not in known:
        raise RequestError(
            f"Targets of the kind {kind!r} are not known{nearest(kind, known)}: use one of "
            f"{', '.join(known)}."
        )
    return url


def _described(text: str) -> URL | None:
    """The URL of an engine that is named by its description's file."""
    kind, _, path = text.partition(":")
    if kind != "described" or path.startswith("//"):
        return None
    return URL.create("described", database=path)


def from_anywhere(text: str) -> str:
    """A URL whose folders on this machine are named from its root, so that it means the same
    wherever it is read; others as they are written.
    """
    kind, mark, rest = text.partition(":///")
    if kind != "lake" or not mark or "${" in text:
        return text
    url = make_url(text)
    at = {
        name: str(Path(str(value)).absolute()) if not is_url(str(value)) else str(value)
        for name, value in url.query.items()
        if name == "warehouse"
    }
    database = str(Path(url.database or "").absolute()) if rest else url.database
    return url.set(database=database, query={**url.query, **at}).render_as_string(
        hide_password=False
    )


def is_file(kind: str) -> bool:
    """Whether targets of a kind are database files, whose URLs hold paths."""
    return kind in names(ENGINES) and bool(load(ENGINES, kind).is_file)


def identity(text: str) -> str:
    """What tells one target from another: an embedded file by its real path, a lake by its own.

    Raises RequestError as `parse_target` does.
    """
    url = parse_target(from_anywhere(text))
    kind = url.get_backend_name()
    if is_file(kind):
        return f"{kind}:{Path(url.database or '').resolve()}"
    return hide(shown(url))


def shown(url: URL) -> str:
    """The URL without its password or query."""
    if url.drivername == "described":
        return f"described:{url.database}"
    return url.set(query={}).render_as_string(hide_password=True)


def open_engine(text: str) -> Engine:
    """The engine behind a URL; nothing is connected yet.

    Raises RequestError as `parse_target` does.
    """
    url = parse_target(text)
    engine: Engine = load(ENGINES, url.get_backend_name())(url)
    return engine


def opener_of_existing(text: str) -> OpenEngine:
    """The same for a target that is only read from: a database file is not made by looking at it.

    Raises RequestError where there is no such file.
    """
    url = parse_target(text)
    if is_file(url.get_backend_name()) and not Path(url.database or "").is_file():
        raise RequestError(f"There is no file {url.database}: check the spelling.")
    return opener(text)


def opener(text: str) -> OpenEngine:
    """A picklable function that opens the engine behind a URL, which is checked at once."""
    parse_target(text)
    return partial(open_engine, text)

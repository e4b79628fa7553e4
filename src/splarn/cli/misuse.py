"""Command lines that cannot be understood, said in a sentence that names the option."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from splarn.core.errors import RequestError
from splarn.core.work.words import nearest

Value = TypeVar("Value")


def read(option: str, parse: Callable[[Any], Value], text: Any) -> Value:
    """What `parse` makes of an option's text. Raises RequestError that names the option."""
    try:
        return parse(text)
    except RequestError as error:
        raise RequestError(f"{option}: {error}") from None


def if_any(parse: Callable[[Any], Value]) -> Callable[[Any], Value | None]:
    """The same for what may be left out."""
    return lambda given: None if given is None else parse(given)


def misuse(error: Any, arguments: Sequence[str]) -> str:
    """What is wrong with a command line, and what to do.

    `error` is what Typer raised for it; what it tells depends on its kind.
    """
    command = [word for word in arguments[:1] if not word.startswith("-")]
    context = getattr(error, "ctx", None)
    where = context.command_path if context else " ".join(["splarn", *command])
    return f"{_wrong(error, arguments)}: `{where} --help` shows what it takes."


def no_command(name: str, known: Sequence[str]) -> str:
    """Says that there is no command of a name, and which of those known is the nearest."""
    return f"{name}: there is no such command{nearest(name, known)}"


def _wrong(error: Any, arguments: Sequence[str]) -> str:
    kind = type(error).__name__
    message = " ".join(error.format_message().split()).rstrip(".")
    if kind == "NoSuchOption":
        hint = nearest(error.option_name, _options(error))
        return f"{error.option_name}: there is no such option{hint}"
    if kind == "BadOptionUsage":
        return f"{error.option_name}: a value must follow it"
    parameter = getattr(error, "param", None)
    name = next((one for one in getattr(parameter, "opts", ()) if one.startswith("--")), None)
    if kind == "MissingParameter" and parameter is not None:
        return f"{name or parameter.metavar or parameter.name} is missing"
    if parameter is not None and name is not None:
        given = _given(name, arguments)
        return f"{name}: {given!r} is no {_wanted(parameter, message)}"
    extra = re.search(r"unexpected extra arguments?(?:\(s\))? \((.*)\)$", message)
    if extra:
        return f"{extra[1]}: nothing more is taken"
    unknown = re.match(r"No such command '(.*?)'", message)
    if unknown:
        return no_command(
            unknown[1], error.ctx.command.list_commands(error.ctx) if error.ctx else []
        )
    return message


def _options(error: Any) -> list[str]:
    """The options of the command that was given."""
    context = getattr(error, "ctx", None)
    known = context.command.get_params(context) if context else ()
    return [name for one in known for name in one.opts if name.startswith("--")]


def _given(name: str, arguments: Sequence[str]) -> str:
    """What stood behind an option."""
    for word, following in zip(arguments, [*arguments[1:], ""], strict=True):
        if word == name:
            return following
        if word.startswith(f"{name}="):
            return word.partition("=")[2]
    return ""


def _wanted(parameter: Any, message: str) -> str:
    """What an option's value must be."""
    kind = getattr(parameter, "type", parameter)
    least, most = (getattr(kind, bound, None) for bound in ("min", "max"))
    # Where the kind of value stands differs between versions of Typer.
    of = f"{getattr(parameter, 'type_descriptor', '')} {getattr(kind, 'name', '')} {message}"
    noun = "whole number" if "'int'" in of or "integer" in of else "number"
    if least is not None and most is not None:
        return f"{noun} from {least:g} to {most:g}"
    if least is not None:
        return f"{noun} of {least:g} or more"
    return noun if "integer" in message or "number" in message else f"value for it ({message})"

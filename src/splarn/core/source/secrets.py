"""Names of secrets in what users write: filled in only where they are used, hidden wherever shown.

Whatever came out of `${NAME}` is remembered, so that it can be taken out of any text on its way to
a person or a file, also where a server or a driver quotes it.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import parse_qsl, quote, quote_plus, urlsplit

from splarn.core.errors import RequestError

_NAME = re.compile(r"\$\{(\w+)\}")
# The password of a URL, as drivers read it: it may hold slashes, and a name's place is left empty.
_PASSWORD = re.compile(r"^[^:/]*://[^:/@]*:([^@]+)@")
_SECRET_PARAMETER = re.compile(r"pass|token|secret|signature|^sig$", re.IGNORECASE)
# Shorter values are taken out only where they stand as words of their own.
_SHORT = 4

_patterns: dict[str, re.Pattern[str]] = {}
# Values by their names: those filled in here, and those that another machine has lent.
_values: dict[str, str] = {}
_lent: dict[str, str] = {}
# How each name is shown, and what parts a session from the name in one that was lent.
_shown: dict[str, str] = {}
OF_SESSION = "__of__"


def filled(text: str, what: str) -> str:
    """The text with every `${NAME}` replaced from the environment; `what` names it in errors.

    Raises RequestError when a name is not set.
    """

    def fill(match: re.Match[str]) -> str:
        value = _lent.get(match[1], os.environ.get(match[1]))
        if value is None:
            raise RequestError(
                f"{what} names ${{{match[1]}}}, which the environment does not set: export it."
            )
        _remember(match[1], value)
        return value

    return _NAME.sub(fill, text)


def remember_named(text: str) -> None:
    """Remembers the values of all names in a text, whoever fills them in later."""
    for name in _NAME.findall(text):
        value = os.environ.get(name)
        if value is not None:
            _remember(name, value)


def known_values() -> Iterable[str]:
    """The values that came out of names, but for those too short to be looked for in texts."""
    return _values.values()


def lend(names: Mapping[str, str]) -> None:
    """Gives values to names for as long as they are not taken back, whatever the environment has.

    A name is that of one session, a prefix before its own; texts show the latter.
    """
    for name, value in names.items():
        _lent[name] = value
        _remember(name, value, name.rpartition(OF_SESSION)[2])


def take_back(names: Iterable[str]) -> None:
    """Forgets values that were lent."""
    for name in names:
        _lent.pop(name, None)
        _patterns.pop(name, None)
        _shown.pop(name, None)
        _values.pop(name, None)


def _remember(name: str, value: str, shown: str = "") -> None:
    if not value or name in _patterns:
        return
    _shown[name] = shown or name
    if len(value) >= _SHORT:
        _values[name] = value
    forms = {value, quote(value, safe=""), quote_plus(value), quote(value), repr(value)[1:-1]}
    # The longest first, since one may begin like another.
    pattern = "|".join(re.escape(form) for form in sorted(forms, key=len, reverse=True))
    if len(value) < _SHORT:
        _patterns[name] = re.compile(rf"(?<!\w)(?:{pattern})(?!\w)")
    else:
        _patterns[name] = re.compile(pattern, re.IGNORECASE)


def hide(text: str) -> str:
    """The text with every value that came out of `${NAME}` turned back into its name."""
    for name, pattern in list(_patterns.items()):
        told = f"${{{_shown.get(name, name)}}}"
        text = pattern.sub(lambda _, told=told: told, text)  # type: ignore[misc]
    return text


def hide_all(document: Any) -> Any:
    """The same for every text in a JSON-ready document, keys included."""
    if not _patterns:
        return document
    if isinstance(document, str):
        return hide(document)
    if isinstance(document, dict):
        return {hide(str(key)): hide_all(value) for key, value in document.items()}
    if isinstance(document, (list, tuple)):
        return [hide_all(value) for value in document]
    return document


def tells_secret(url: str) -> bool:
    """Whether a URL has a password, or a parameter that is named like a secret, written out."""
    bare = _NAME.sub("", url)
    return _PASSWORD.match(bare) is not None or any(
        _SECRET_PARAMETER.search(name) for name, _ in parse_qsl(bare.partition("?")[2])
    )


def refuse_secrets(url: str, what: str) -> None:
    """Refuses a secret written out in the URL of `what` that is about to be put into a file.

    Raises RequestError.
    """
    if tells_secret(url):
        raise RequestError(
            f"The {what}'s secrets would be written into the plan: put them into the environment "
            "and write ${NAME} in their place, in single quotes on the command line."
        )


def shown_url(url: str) -> str:
    """A URL without user, password, query and fragment, which may hold secrets."""
    pieces = urlsplit(url)
    host = pieces.netloc.rpartition("@")[2]
    return f"{pieces.scheme}://{host}{pieces.path}"

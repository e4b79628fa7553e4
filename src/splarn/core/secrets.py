"""Names of secrets in what users write, filled in from the environment only where they are used."""

from __future__ import annotations

import os
import re

from splarn.core.errors import RequestError

_NAME = re.compile(r"\$\{(\w+)\}")


def filled(text: str, what: str) -> str:
    """The text with every `${NAME}` replaced from the environment; `what` names it in errors.

    Raises RequestError when a name is not set.
    """

    def fill(match: re.Match[str]) -> str:
        value = os.environ.get(match[1])
        if value is None:
            raise RequestError(
                f"{what} names ${{{match[1]}}}, which the environment does not set: export it."
            )
        return value

    return _NAME.sub(fill, text)

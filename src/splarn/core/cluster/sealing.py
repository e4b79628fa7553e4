"""Tasks and results as bytes in which no secret stands.

Texts with secrets, or with `${NAME}` that the environment here fills in, leave a number behind; the
texts themselves go to each worker once, in a letter that it keeps in memory.
"""

from __future__ import annotations

import io
import os
import pickle
import re
from collections.abc import Callable, Mapping
from typing import Any

from splarn.core.source.secrets import known_values, tells_secret

_NAME = re.compile(r"\$\{(\w+)\}")
# Longer texts are data rather than addresses.
_LONGEST = 4096


class Letters:
    """Texts that are told by their number. A worker's names get the session's own prefix.

    So two sessions on one worker never fill in one another's secrets, whatever thread asks.
    """

    def __init__(self, prefix: str) -> None:
        self.prefix = prefix
        self.texts: list[str] = []
        self._numbers: dict[str, int] = {}

    def number(self, text: str) -> int | None:
        """The number that a text is told by, None where it can be told as it is."""
        if len(text) > _LONGEST:
            return None
        known = self._numbers.get(text)
        if known is not None:
            return known
        if not (
            "${" in text
            or any(one in text for one in known_values())
            or ("://" in text and tells_secret(text))
        ):
            return None
        self.texts.append(text)
        self._numbers[text] = len(self.texts) - 1
        return self._numbers[text]

    def names(self) -> dict[str, str]:
        """The values of all names that the texts hold, by the names that workers know them by."""
        wanted = {name for text in self.texts for name in _NAME.findall(text)}
        found = {name: os.environ.get(name) for name in wanted}
        return {self.prefix + name: value for name, value in found.items() if value is not None}

    def there(self) -> list[str]:
        """The texts as a worker has them."""
        return [_NAME.sub(rf"${{{self.prefix}\1}}", text) for text in self.texts]


def sealed(thing: Any, number: Callable[[str], int | None]) -> bytes:
    """A thing pickled, texts with a number left out."""
    data = io.BytesIO()
    _Sealing(data, number).dump(thing)
    return data.getvalue()


def unsealed(data: bytes, texts: Mapping[int, str]) -> Any:
    """The reverse. Raises KeyError for a text that has not been told."""
    return _Opening(io.BytesIO(data), texts).load()


class Sealed:
    """Bytes on their way to or from a worker, which no log or page can show."""

    def __init__(self, session: str, data: bytes) -> None:
        self.session, self.data = session, data

    def __repr__(self) -> str:
        return "sealed"


class _Sealing(pickle.Pickler):
    def __init__(self, file: Any, number: Callable[[str], int | None]) -> None:
        super().__init__(file, protocol=pickle.HIGHEST_PROTOCOL)
        self._number = number

    def persistent_id(self, obj: Any) -> int | None:
        return self._number(obj) if type(obj) is str else None


class _Opening(pickle.Unpickler):
    def __init__(self, file: Any, texts: Mapping[int, str]) -> None:
        super().__init__(file)
        self._texts = texts

    def persistent_load(self, pid: Any) -> str:
        return self._texts[pid]

"""The one HTTP client of a process, and what it finds out of a file."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import lru_cache
from typing import Any

from splarn.core.errors import OutsideError, RequestError
from splarn.core.source.archives import Status
from splarn.core.source.secrets import filled, shown_url

# A file that is packed must not be unpacked on the way.
AS_IT_IS = {"Accept-Encoding": "identity"}


def is_http(url: str) -> bool:
    return url.lower().startswith(("http://", "https://"))


@contextmanager
def reaching(url: str) -> Iterator[None]:
    try:
        yield
    except (OutsideError, RequestError):
        raise
    except FileNotFoundError:
        raise OutsideError(f"{shown_url(url)} is not there: check the spelling.") from None
    except Exception as error:
        reason = (str(error) or type(error).__name__).splitlines()[0]
        # Errors quote the address as it was opened, with its secrets.
        reason = reason.replace(filled(url, shown_url(url)), shown_url(url))
        answer = getattr(error, "response", None)
        if answer is not None:
            reason = f"it answers {answer.status_code}"
        raise OutsideError(
            f"{shown_url(url)} cannot be reached ({reason}): check the address and that it answers."
        ) from None


def _http() -> Any:
    try:
        import httpx
    except ModuleNotFoundError:
        raise RequestError(
            "Reading over HTTP needs httpx, which is not installed: pip install 'splarn[places]'."
        ) from None
    return httpx


@lru_cache(maxsize=1)
def _one_client() -> Any:
    return _http().Client(follow_redirects=True, timeout=30.0)


def http_client() -> Any:
    """One client a process, whose connections are kept and used again."""
    # Threads that come first together would make several.
    with _making:
        return _one_client()


_making = threading.Lock()
# Clients whose connections belong to the process that this one is a copy of: never closed here.
_of_others: list[Any] = []


def _leave_to_the_other() -> None:
    """A copy of a process has connections of its own; answers on those of both would mix."""
    global _making
    _making = threading.Lock()
    if _one_client.cache_info().currsize:
        _of_others.append(_one_client())
        _one_client.cache_clear()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_leave_to_the_other)


def http_status(url: str) -> Status:
    with reaching(url):
        answer = http_client().head(filled(url, shown_url(url)), headers=AS_IT_IS)
        if answer.status_code == 404:
            raise OutsideError(f"{shown_url(url)} is not there: check the spelling.")
        answer.raise_for_status()
        length = answer.headers.get("content-length")
        if length is None:
            raise OutsideError(
                f"{shown_url(url)} does not say how long it is: fetch it into a file first."
            )
        from email.utils import parsedate_to_datetime

        changed = 0.0
        with suppress(KeyError, ValueError, TypeError):
            changed = parsedate_to_datetime(answer.headers["last-modified"]).timestamp()
        return Status(int(length), int(changed * 1e9))

"""One connection to a Millrace: steps of a transaction, holds, and its API."""

from __future__ import annotations

import secrets
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from splarn.core.errors import OutsideError, RequestError

TIMEOUT = 60.0


class MillraceLink:
    """Changes are kept here until `commit` sends them as one transaction.

    What is read meanwhile is asked for behind them, in a transaction that is taken back.
    """

    def __init__(self, place: str) -> None:
        try:
            import httpx
        except ModuleNotFoundError:
            raise RequestError(
                "Millrace is reached with httpx, which is not installed: "
                "pip install 'splarn[places]'."
            ) from None
        self._httpx = httpx
        self.place = place
        self.base = place.replace("millrace://", "http://")
        self._client = self._made()
        # The line that a hold lasts for is one of its own.
        self._holding = self._made()
        # Set once parts that are being handed over are not to be begun any more.
        self.broken_off = threading.Event()
        self.holder = secrets.token_hex(8)
        self._hold: Any = None
        self._pending: list[dict[str, Any]] = []

    def _made(self) -> Any:
        # Loopback needs no certificates, and reading them takes long.
        return self._httpx.Client(base_url=self.base, timeout=TIMEOUT, verify=False)

    def commit(self) -> None:
        """See Session."""
        if self._pending:
            steps, self._pending = self._pending, []
            self.call("POST", "/steps", {"steps": steps, "commit": True})

    def rollback(self) -> None:
        """See Session."""
        self._pending = []

    def close(self) -> None:
        """See Session."""
        if self._hold is not None:
            self._hold.close()
        self._client.close()
        self._holding.close()

    def take(self, what: str) -> bool:
        """Whether this session has the hold of that name, now or from before."""
        if self._hold is None:
            request = self._holding.build_request(
                "GET", f"/holds/{self.holder}", timeout=self._httpx.Timeout(TIMEOUT, read=None)
            )
            with self._reaching():
                self._hold = self._holding.send(request, stream=True)
        return bool(self.call("POST", f"/holds/{self.holder}", {"take": what})["granted"])

    def ask(self, verb: str, **given: Any) -> Any:
        """What a step finds behind the changes that wait."""
        steps = [*self._pending, {"do": verb, **given}]
        return self.call("POST", "/steps", {"steps": steps})["found"]

    def change(self, verb: str, **given: Any) -> None:
        """A step of the transaction."""
        self._pending.append({"do": verb, **given})

    def call(self, method: str, path: str, document: Any = None) -> Any:
        """What the API answers. Raises RequestError and OutsideError."""
        try:
            with self._reaching():
                answer = self._client.request(method, path, json=document)
        except (KeyboardInterrupt, SystemExit):
            # Its locks may be left as they were then, so nothing more is asked of it.
            self._client = self._made()
            raise
        try:
            told = answer.json()
        except ValueError:
            raise OutsideError(
                f"{self.place} does not answer like a Millrace: check the address."
            ) from None
        if answer.status_code == 422:
            raise RequestError(told["error"])
        if answer.status_code >= 400:
            why = told.get("error", f"it answers {answer.status_code}")
            raise OutsideError(f"{self.place} refused a request: {why}.")
        return told

    def fetch(self, path: str) -> bytes:
        """The bytes of a file that it has. Raises OutsideError."""
        with self._reaching():
            answer = self._client.get(path)
        if answer.status_code >= 400:
            why = answer.json().get("error", f"it answers {answer.status_code}")
            raise OutsideError(f"{self.place} refused a request: {why}.")
        return bytes(answer.content)

    @contextmanager
    def _reaching(self) -> Iterator[None]:
        try:
            yield
        except self._httpx.TransportError as error:
            raise OutsideError(
                f"{self.place} cannot be reached ({type(error).__name__}): start it with `splarn "
                "standin`, or check the address."
            ) from None

"""An HTTP store as a depot: plain PUT, HEAD, GET and DELETE, with digests after RFC 9530."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import quote, urlsplit, urlunsplit

from splarn.core.errors import OutsideError, RequestError
from splarn.core.ship.depot import Depot, Stored
from splarn.core.source.digest_fields import read_field, write_field
from splarn.core.source.http import AS_IT_IS
from splarn.core.source.places import Place, Remote
from splarn.core.source.retry import PASSING, Unready, seconds_asked
from splarn.core.source.secrets import filled, shown_url
from splarn.depots import reopened

# The store found another digest than the one that was announced.
_NOT_WHAT_WAS_SENT = {400, 409, 422}
TIMEOUT = 30.0
# How a store says that it takes ranges, and which ranges of a file it has.
RANGED, HELD = "Accept-Content-Range", "Content-Ranges-Held"


class HttpDepot:
    """Files below a URL. A secret in it stays `${NAME}` until a request is made."""

    remote = True

    def __init__(self, url: str) -> None:
        self.url = url
        self.place = shown_url(url)
        try:
            import httpx
        except ModuleNotFoundError:
            raise RequestError(
                "Shipping over HTTP needs httpx, which is not installed: "
                "pip install 'splarn[places]'."
            ) from None
        self._httpx = httpx
        self._ranged: bool | None = None
        limits = httpx.Limits(max_connections=None, max_keepalive_connections=None)
        # Reading certificates takes long, and plain HTTP needs none.
        secure = not url.lower().startswith("http://")
        self._client = httpx.Client(timeout=TIMEOUT, limits=limits, verify=secure)

    def __reduce__(self) -> tuple[Callable[[str], Depot], tuple[str]]:
        return reopened, (self.url,)

    def find(self, name: str) -> Stored | None:
        """See Depot. A store that tells no digest is read."""
        with self._reaching(name):
            answer = self._client.head(
                self._at(name), headers={"Want-Repr-Digest": "sha-256=9", **AS_IT_IS}
            )
            if answer.status_code == 404:
                return None
            self._check(answer, name)
            size = int(answer.headers.get("content-length", -1))
            return Stored(name, size, self._digest(answer, name))

    def holds(self, name: str, source: Place) -> bool:
        """See Depot. What lies behind an address cannot be seen from here."""
        return isinstance(source, Remote) and source.url == f"{self.url.rstrip('/')}/{quote(name)}"

    def put(self, name: str, blocks: Iterator[bytes], size: int, digest: str) -> Stored:
        """See Depot. A store that answers without a digest is asked for one."""
        headers = {
            "Content-Length": str(size),
            "Content-Type": "application/octet-stream",
            "Content-Digest": write_field(digest),
        }
        with self._reaching(name):
            answer = self._client.put(self._at(name), content=blocks, headers=headers)
            if answer.status_code in _NOT_WHAT_WAS_SENT:
                raise Unready(f"the store answers {answer.status_code} to {name}")
            self._check(answer, name)
            known = read_field(answer.headers.get("repr-digest", ""))
        if known is not None:
            return Stored(name, size, known)
        stored = self.find(name)
        if stored is None:
            raise Unready(f"{name} is not there after it was stored")
        return stored

    def get(self, name: str, first: int = 0, end: int | None = None) -> Iterator[bytes]:
        """See Depot. A store without ranges sends all, of which the beginning is passed over."""
        last = "" if end is None else end - 1
        asked = first or end is not None
        ranged = {"Range": f"bytes={first}-{last}", "Want-Content-Digest": "sha-256=9"}
        headers = {**AS_IT_IS, **(ranged if asked else {})}
        with (
            self._reaching(name),
            self._client.stream("GET", self._at(name), headers=headers) as answer,
        ):
            self._check(answer, name)
            skip = 0 if answer.status_code == 206 else first
            # A store that says what it sends lets spoiled bytes be known before they are used.
            announced = read_field(answer.headers.get("content-digest", ""))
            state = hashlib.sha256()
            left = None if end is None else end - first
            for block in answer.iter_raw():
                state.update(block)
                wanted = block[skip:] if skip else block
                skip = max(skip - len(block), 0)
                if left is not None:
                    wanted = wanted[:left]
                    left -= len(wanted)
                yield wanted
            if announced is not None and announced != state.hexdigest():
                raise Unready(f"what arrived of {name} is not what the store sent")

    def ranged(self) -> bool:
        """See Depot. A store says so itself: ranges put into one that ignores them do harm."""
        if self._ranged is None:
            with self._reaching(""):
                answer = self._client.request("OPTIONS", self._at(""))
                self._ranged = answer.headers.get(RANGED, "") == "bytes"
        return self._ranged

    def held(self, name: str, size: int, digest: str) -> list[tuple[int, int]]:
        """See Depot."""
        with self._reaching(name):
            headers = {"Repr-Digest": write_field(digest), **AS_IT_IS}
            answer = self._client.head(self._at(name), headers=headers)
            if answer.status_code != 404:
                self._check(answer, name)
        spans = (piece.strip().partition("-") for piece in answer.headers.get(HELD, "").split(","))
        return [(int(first), int(last) + 1) for first, _, last in spans if last]

    def put_range(
        self, name: str, blocks: Iterator[bytes], span: tuple[int, int], size: int, digest: str
    ) -> None:
        """See Depot. A partial PUT (RFC 9110, section 14.5) that names the whole's digest."""
        # Held in memory, so that its own digest goes before it.
        content = b"".join(blocks)
        headers = {
            "Content-Length": str(len(content)),
            "Content-Type": "application/octet-stream",
            "Content-Range": f"bytes {span[0]}-{span[1] - 1}/{size}",
            "Content-Digest": write_field(hashlib.sha256(content).hexdigest()),
            "Repr-Digest": write_field(digest),
        }
        with self._reaching(name):
            answer = self._client.put(self._at(name), content=content, headers=headers)
            if answer.status_code in _NOT_WHAT_WAS_SENT:
                raise Unready(f"the store answers {answer.status_code} to a range of {name}")
            self._check(answer, name)

    def delete(self, name: str) -> None:
        """See Depot."""
        with self._reaching(name):
            answer = self._client.delete(self._at(name))
            if answer.status_code != 404:
                self._check(answer, name)

    def names(self) -> list[str]:
        """See Depot. As the store lists them, in JSON: `{"files": [{"name": …}]}`."""
        with self._reaching(""):
            answer = self._client.get(self._at(""), headers={"Accept": "application/json"})
            self._check(answer, "")
            try:
                return sorted(str(one["name"]) for one in answer.json()["files"])
            except (ValueError, KeyError, TypeError):
                raise OutsideError(
                    f"{self.place} does not list its files in a way that Splarn reads: name each."
                ) from None

    def close(self) -> None:
        """See Depot."""
        self._client.close()

    def _at(self, name: str) -> str:
        """The address of a file; a query in the depot's URL comes after it."""
        pieces = urlsplit(filled(self.url, self.place))
        path = f"{pieces.path.rstrip('/')}/{quote(name)}"
        return urlunsplit((pieces.scheme, pieces.netloc, path, pieces.query, ""))

    def _digest(self, answer: Any, name: str) -> str:
        known = read_field(answer.headers.get("repr-digest", ""))
        if known is not None:
            return known
        state = hashlib.sha256()
        with self._client.stream("GET", self._at(name), headers=AS_IT_IS) as reading:
            self._check(reading, name)
            for block in reading.iter_raw():
                state.update(block)
        return state.hexdigest()

    def _check(self, answer: Any, name: str) -> None:
        code = answer.status_code
        if code in PASSING:
            asked = seconds_asked(answer.headers.get("retry-after"))
            raise Unready(f"it answers {code}", asked)
        if code >= 400:
            raise OutsideError(
                f"{self.place} answers {code} to {name or 'a request for its list'}: check the "
                "address and your rights there."
            )

    @contextmanager
    def _reaching(self, name: str) -> Iterator[None]:
        try:
            yield
        except self._httpx.TransportError as error:
            # The driver quotes addresses; the kind of error says enough.
            kind = type(error).__name__
            raise Unready(f"the connection failed with {kind} at {name}") from None
        except self._httpx.InvalidURL:
            raise RequestError(f"{self.place} is not an address: check the spelling.") from None

"""Whatever fsspec opens for writing as a depot: object stores and other places by their scheme."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from splarn.core.errors import OutsideError, RequestError
from splarn.core.ship.content import digest_of
from splarn.core.ship.depot import Depot, Stored
from splarn.core.source.places import Place, Remote, blocks_in, filesystem
from splarn.core.source.retry import Unready
from splarn.core.source.secrets import shown_url
from splarn.core.work.disk import ASIDE
from splarn.depots import reopened

# What stores say when asking again will not help, whatever kind of error it comes in.
_FOR_GOOD = ("access denied", "access_denied", "forbidden", "nosuchbucket", "does not exist")


class ObjectDepot:
    """Files below a URL. They are written under a name of their own and renamed when proven.

    Stores tell no SHA-256 of what they hold, so it is read back.
    """

    remote = True

    def __init__(self, url: str) -> None:
        self.place = shown_url(url)
        self._url = url.rstrip("/")
        # Object stores know no folders.
        self._flat = url.partition("://")[0].lower() in ("s3", "s3a", "gs", "gcs", "az", "abfs")
        self._system, self._root = filesystem(url.rstrip("/"))

    def __reduce__(self) -> tuple[Callable[[str], Depot], tuple[str]]:
        return reopened, (self._url,)

    def find(self, name: str) -> Stored | None:
        """See Depot."""
        return self._found(self._at(name), name)

    def holds(self, name: str, source: Place) -> bool:
        """See Depot. What lies behind an address cannot be seen from here."""
        return isinstance(source, Remote) and source.url == f"{self._url}/{name}"

    def put(self, name: str, blocks: Iterator[bytes], size: int, digest: str) -> Stored:
        """See Depot."""
        temporary = f"{self._at(name)}.{secrets.token_hex(3)}{ASIDE}"
        try:
            with self._reaching(name):
                if not self._flat:
                    self._system.makedirs(temporary.rpartition("/")[0], exist_ok=True)
                with self._system.open(temporary, "wb") as file:
                    for block in blocks:
                        file.write(block)
            arrived = self._found(temporary, name)
            if arrived is None or (arrived.size, arrived.digest) != (size, digest):
                raise Unready(f"what was written of {name} is not what was read")
            with self._reaching(name):
                self._system.mv(temporary, self._at(name))
                # A store may still be at work on what a killed client asked of it.
                self._system.invalidate_cache()
                there = self._system.info(self._at(name)).get("size")
            if there != size:
                raise Unready(f"{name} has {there} bytes there and not {size}")
        except BaseException:
            with suppress(Exception):
                self._system.rm_file(temporary)
            raise
        return Stored(name, size, digest)

    def get(self, name: str, first: int = 0, end: int | None = None) -> Iterator[bytes]:
        """See Depot."""
        with self._reaching(name), self._system.open(self._at(name), "rb") as file:
            yield from blocks_in(file, first, end)

    def ranged(self) -> bool:
        """See Depot. Not every place has a way to put a range."""
        return False

    def held(self, name: str, size: int, digest: str) -> list[tuple[int, int]]:
        """See Depot."""
        return []

    def put_range(
        self, name: str, blocks: Iterator[bytes], span: tuple[int, int], size: int, digest: str
    ) -> None:
        """See Depot. Raises RequestError."""
        raise RequestError(f"{self.place} takes whole files only.")

    def delete(self, name: str) -> None:
        """See Depot."""
        with self._reaching(name), suppress(FileNotFoundError):
            self._system.rm_file(self._at(name))

    def names(self) -> list[str]:
        """See Depot."""
        with self._reaching(""):
            paths = [str(path) for path in self._system.find(self._root)]
        below = [path.lstrip("/").removeprefix(self._root.lstrip("/")) for path in paths]
        return sorted(path.lstrip("/") for path in below if not path.endswith(ASIDE))

    def close(self) -> None:
        """See Depot."""

    def _at(self, name: str) -> str:
        return f"{self._root}/{name}" if self._root else name

    def _found(self, path: str, name: str) -> Stored | None:
        with self._reaching(name):
            try:
                with self._system.open(path, "rb") as file:
                    digest, size = digest_of(blocks_in(file))
            except FileNotFoundError:
                return None
        return Stored(name, size, digest)

    @contextmanager
    def _reaching(self, name: str) -> Iterator[None]:
        try:
            yield
        except (OutsideError, RequestError, Unready):
            raise
        except Exception as error:
            text = (str(error) or type(error).__name__).lower()
            if isinstance(error, (PermissionError, FileNotFoundError)) or any(
                one in text for one in _FOR_GOOD
            ):
                raise OutsideError(
                    f"{self.place} refuses {name or 'a request for its list'}: check that it is "
                    "there and your rights."
                ) from None
            # Drivers quote addresses and keys; the kind of error says enough.
            raise Unready(f"it failed with {type(error).__name__} at {name}") from None

"""What has arrived in a depot: the files below an address, and the manifest that came with them."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path, PurePosixPath
from urllib.parse import quote, urlsplit, urlunsplit

from splarn.core.errors import RequestError
from splarn.core.load.request import Input, input_of_part
from splarn.core.shape.manifest import MANIFEST, Manifest, parse_manifest
from splarn.core.source.places import Remote, open_place, place
from splarn.core.source.retry import Trying
from splarn.core.source.secrets import shown_url
from splarn.core.source.source import Source, look
from splarn.depots import open_depot

# Questions to a depot at once.
ASKERS = 8


def below(url: str, name: str) -> str:
    """The address of a file below a folder's; what follows a `?` stays at the end."""
    pieces = urlsplit(url)
    path = f"{pieces.path.rstrip('/')}/{quote(name)}"
    return urlunsplit((pieces.scheme, pieces.netloc, path, pieces.query, ""))


def is_folder(text: str) -> bool:
    """Whether a text is the address of a folder in a depot: a URL that ends with a slash."""
    return isinstance(place(text), Remote) and urlsplit(text).path.endswith("/")


def listed(url: str) -> list[Remote]:
    """The data files below an address, a manifest left out.

    Raises RequestError when there are none, OutsideError when the depot does not answer.
    """
    with closing(open_depot(url)) as depot:
        names = Trying(depot.place, "its list").until_ready(depot.names)
    files = [name for name in names if not name.endswith((".json", ".toml", ".md"))]
    if not files:
        raise RequestError(f"{shown_url(url)} holds no data files: ship some there first.")
    return [Remote(below(url, name)) for name in files]


def manifest_at(text: str) -> tuple[str, Manifest] | None:
    """The folder's address and the manifest that lies there; None where there is none.

    Raises RequestError when it is none that Splarn wrote.
    """
    if not isinstance(place(text), Remote):
        return None
    folder = text
    if urlsplit(text).path.endswith(f"/{MANIFEST}"):
        pieces = urlsplit(text)
        folder = urlunsplit(pieces._replace(path=pieces.path.removesuffix(MANIFEST)))
    elif not is_folder(text) and "." in PurePosixPath(urlsplit(text).path).name:
        # Without a slash at its end, what has no ending of a file's may be a folder too.
        return None
    at = Remote(below(folder, MANIFEST))
    if not at.is_file():
        return None
    with open_place(at) as file:
        return folder, parse_manifest(file.read(), str(at), Path())


def inputs_at(folder: str, manifest: Manifest) -> tuple[Input, ...]:
    """The parts of a manifest that lie beside it in a depot.

    Raises RequestError when one has another size than listed, OutsideError when one is missing.
    """
    places = [Remote(below(folder, Path(part.path).name)) for part in manifest.parts]
    looks = _looks(places)
    for part, at, (size, _) in zip(manifest.parts, places, looks, strict=True):
        if size != part.bytes:
            raise RequestError(
                f"The part {at} has {size:,} bytes, not {part.bytes:,}: ship the parts again."
            )
    return tuple(
        input_of_part(manifest, part, Source(at, size, stamp, part.codec, manifest.layout.format))
        for part, at, (size, stamp) in zip(manifest.parts, places, looks, strict=True)
    )


def _looks(places: Sequence[Remote]) -> list[tuple[int, tuple[int, int, int]]]:
    with ThreadPoolExecutor(ASKERS) as askers:
        return list(askers.map(look, places))

"""The manifest: a Data Package descriptor that lists the parts and where each came from."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import from_descriptor, to_descriptor
from splarn.core.source.codecs import codecs
from splarn.core.source.content import Identity
from splarn.core.source.files import bring_back
from splarn.core.source.places import is_url, place
from splarn.core.work.disk import ASIDE, outside, write_text

MANIFEST = "datapackage.json"
UNFINISHED = MANIFEST + ASIDE


@dataclass(frozen=True)
class SourceRange:
    """Unpacked bytes `start` to `end` of a source file; `end` is None up to its end.

    Of a columnar file they are rows. `path` is the URL as it was given where the file is remote.
    Where its records stand in a part in their order, `rows` are so many, on `lines` lines of the
    source; `row` counts the records before them there, `line` is the one on which they begin. Of
    `converted` ones some may have been set aside: those `gone`, counted from 1 in the range.
    """

    path: str
    codec: str
    start: int
    end: int | None
    row: int | None = None
    line: int | None = None
    rows: int | None = None
    lines: int | None = None
    converted: bool = False
    gone: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        # JSON knows no tuples.
        object.__setattr__(self, "gone", tuple(self.gone))

    @property
    def bare(self) -> SourceRange:
        """The range alone."""
        return SourceRange(self.path, self.codec, self.start, self.end)


@dataclass(frozen=True)
class Part:
    """One file made by `shape`. `path` is relative to the manifest's folder.

    `bytes` are packed, `raw_bytes` unpacked; `hash` is of the packed bytes, `content` of the
    unpacked records, empty for a columnar part.
    """

    path: str
    codec: str
    bytes: int
    raw_bytes: int
    rows: int
    hash: str
    source: tuple[SourceRange, ...]
    seconds: float = 0.0
    content: str = ""


@dataclass(frozen=True)
class Manifest:
    """The parts, in source order, and the layout they share.

    `contents` are the identities of the source files, by their path.
    """

    folder: Path
    layout: Layout
    parts: tuple[Part, ...]
    contents: Mapping[str, Identity] = field(default_factory=dict)

    @property
    def rows(self) -> int:
        """Records in all parts."""
        return sum(part.rows for part in self.parts)

    @property
    def bytes(self) -> int:
        """Packed bytes of all parts."""
        return sum(part.bytes for part in self.parts)

    @property
    def raw_bytes(self) -> int:
        """Unpacked bytes of all parts."""
        return sum(part.raw_bytes for part in self.parts)

    @property
    def path(self) -> Path:
        """Where the manifest lies."""
        return self.folder / MANIFEST


_MEDIA = {
    "csv": "text/csv",
    "jsonl": "application/jsonl",
    "parquet": "application/vnd.apache.parquet",
}


def _resource_name(path: str) -> str:
    """A name as the standard allows it, which no other part has."""
    bare = path.removesuffix(Path(path).name) + Path(path).name.split(".")[0]
    return re.sub(r"[^a-z0-9._/-]", "-", bare.lower()).replace("/", "-")


def write_manifest(manifest: Manifest) -> None:
    """Writes the manifest, whole or not at all.

    Raises OutsideError when the disk refuses.
    """
    layout = to_descriptor(manifest.layout)
    resources = [
        {
            "name": _resource_name(part.path),
            "path": part.path,
            "format": manifest.layout.format,
            "mediatype": _MEDIA[manifest.layout.format],
            **({"encoding": layout["encoding"]} if "encoding" in layout else {}),
            "bytes": part.bytes,
            "hash": part.hash,
            "compression": part.codec,
            "rows": part.rows,
            "rawBytes": part.raw_bytes,
            **({"content": part.content} if part.content else {}),
            "source": [_piece(piece) for piece in part.source],
        }
        for part in manifest.parts
    ]
    package = {
        "$schema": "https://datapackage.org/profiles/2.0/datapackage.json",
        "name": manifest.layout.name.lower(),
        "layout": layout,
        "contents": {str(place(path)): one.whole for path, one in manifest.contents.items()},
        "begins": {str(place(path)): one.begins for path, one in manifest.contents.items()},
        "resources": resources,
    }
    write_text(manifest.path, json.dumps(package, indent=1, ensure_ascii=False) + "\n")


def _piece(piece: SourceRange) -> dict[str, Any]:
    document = {name: value for name, value in asdict(piece).items() if value is not None}
    return document | {"path": str(place(piece.path)), "end": piece.end}


def _codec(name: Any) -> str:
    if name not in codecs():
        raise ValueError(f"the codec {name!r} is not known")
    return str(name)


def is_manifest(path: Path) -> bool:
    """Whether a path names a manifest or a folder that holds one."""
    return path.name == MANIFEST or (path / MANIFEST).is_file()


def read_manifest(path: str | Path, anywhere: bool = False) -> Manifest:
    """Reads a manifest file, or the one in a folder.

    Raises RequestError when there is none, it cannot be read, the shape that was to write it did
    not finish, or it names parts outside its folder and `anywhere` does not allow that.
    """
    path = Path(path)
    if path.is_dir():
        path = path / MANIFEST
    # It may have been about to leave when a shipment broke off.
    bring_back(path)
    if not path.is_file():
        if path.with_name(UNFINISHED).exists():
            raise RequestError(
                f"The parts in {path.parent} are unfinished: run the same `splarn shape` again."
            )
        raise RequestError(f"There is no manifest {path}: make one with `splarn shape`.")
    with outside(f"Reading {path}"):
        text = path.read_bytes()
    manifest = parse_manifest(text, str(path), path.parent)
    if not anywhere:
        _refuse_outside(manifest, path)
    return manifest


def _refuse_outside(manifest: Manifest, path: Path) -> None:
    """Raises RequestError for a part that does not lie below the manifest's folder."""
    folder = manifest.folder.resolve()
    for part in manifest.parts:
        if is_url(part.path) or not (folder / part.path).resolve().is_relative_to(folder):
            raise RequestError(
                f"The manifest {path} names {part.path}, which is not in its folder: give "
                "--parts-anywhere if you trust it."
            )


def parse_manifest(text: bytes, where: str, folder: Path) -> Manifest:
    """A manifest's content; `where` names its origin in errors, `folder` holds the parts.

    Raises RequestError when it is none.
    """
    try:
        package: dict[str, Any] = json.loads(text)
        layout = from_descriptor(package["layout"], where)
        parts = tuple(
            Part(
                path=str(resource["path"]),
                codec=_codec(resource["compression"]),
                bytes=int(resource["bytes"]),
                raw_bytes=int(resource["rawBytes"]),
                rows=int(resource["rows"]),
                hash=str(resource["hash"]),
                content=str(resource.get("content", "")),
                source=tuple(SourceRange(**piece) for piece in resource["source"]),
            )
            for resource in package["resources"]
        )
        begins = package.get("begins", {})
        contents = {
            str(path): Identity(str(begins.get(path, "")), str(whole))
            for path, whole in package.get("contents", {}).items()
        }
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        raise RequestError(
            f"{where} is not a manifest written by `splarn shape` ({error}): shape the source "
            "again."
        ) from None
    return Manifest(folder, layout, parts, contents)

"""What callers give, in the ways that people write it: files, layouts, sizes, shares, places."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias

from splarn.core.check.limit import BadRows
from splarn.core.errors import RequestError
from splarn.core.inference.infer import infer_layout
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import read_layout
from splarn.core.prices import Prices, read_prices
from splarn.core.shape.manifest import Manifest, is_manifest, read_manifest
from splarn.core.source.files import find_files, opened_up
from splarn.core.source.places import Place, is_url
from splarn.core.target.levers import LOAD_LEVERS, LoadLevers
from splarn.core.units import parse_size
from splarn.library.where import everywhere, own

if TYPE_CHECKING:
    from splarn.core.tuning.configuration import Space
    from splarn.depots.landing import DepotLanding

# A file, a folder, a pattern or a URL; or several of them.
Files: TypeAlias = "str | PathLike[str] | Sequence[str | PathLike[str]]"
LayoutLike: TypeAlias = "Layout | str | PathLike[str] | None"
Size: TypeAlias = "int | float | str"


def places(files: Files) -> list[Place]:
    """Every file that is named, sorted; archives stand for what is in them.

    Raises RequestError when a place names nothing, OutsideError when one cannot be reached.
    """
    named = [files] if isinstance(files, str | PathLike) else list(files)
    return [everywhere(one) for one in opened_up(find_files([str(one) for one in named]))]


def manifest_in(files: Files | Manifest) -> Manifest | None:
    """The manifest that is given, or that a file or folder is; None for other files."""
    if isinstance(files, Manifest):
        return replace(files, folder=own(files.folder))
    local = isinstance(files, str | PathLike) and not is_url(str(files))
    if isinstance(files, str | PathLike) and local and is_manifest(Path(files)):
        return read_manifest(own(files))
    return None


def layout_of(layout: LayoutLike, files: Sequence[Place]) -> Layout:
    """The layout, read where it is a file's name; inferred from the files where there is none."""
    if isinstance(layout, Layout):
        return layout
    return infer_layout(files).layout if layout is None else read_layout(Path(layout))


def size_of(size: Size) -> int:
    """Bytes, also as people write them. Raises RequestError."""
    return parse_size(size) if isinstance(size, str) else round(size)


def prices_of(prices: Prices | str | PathLike[str] | None, space: Space | None = None) -> Prices:
    """A price list, read where it is a file's name; without one compute of all tiers is free."""
    from splarn.core.prices import Tier

    if isinstance(prices, Prices):
        return prices
    if prices is not None:
        return read_prices(Path(prices))
    tiers = () if space is None else space.values["tier"]
    return Prices(tiers={name: Tier(per_hour=0) for name in tiers}) if tiers else Prices()


def bad_rows_of(bad_rows: int | str | BadRows) -> BadRows:
    """How many bad rows may be set aside, as 0, 500 or "1%"."""
    return bad_rows if isinstance(bad_rows, BadRows) else BadRows.read(str(bad_rows))


def levers_of(given: Mapping[str, Any]) -> LoadLevers:
    """The levers of loading alone, as people write them. Raises RequestError for what is none."""
    unknown = [name for name in given if name not in LOAD_LEVERS]
    if unknown:
        raise RequestError(f"{unknown[0]} is no lever of loading: use {', '.join(LOAD_LEVERS)}.")
    return LoadLevers(**{name: LOAD_LEVERS[name].values(one)[0] for name, one in given.items()})


@dataclass(frozen=True)
class Depot:
    """A depot as written, made whole where it is a folder, and how its way is known."""

    place: str = ""
    shown: str = ""

    def landing(self, name: str) -> DepotLanding:
        """The folder of a name in it."""
        from splarn.core.source.secrets import filled
        from splarn.depots.landing import DepotLanding

        return DepotLanding(filled(self.place, "The depot"), name)


def depot_of(depot: str | PathLike[str] | None) -> Depot:
    """Raises RequestError for a depot of an unknown kind."""
    if depot is None:
        return Depot()
    text = str(depot)
    named = text if is_url(text) or text.startswith("$") else str(Path(text).resolve())
    shown = Depot(named).landing("").place
    return Depot(named, shown if is_url(shown) else str(Path(shown).resolve()))


def count_of(number: int, what: str) -> int:
    """A number of workers or streams. Raises RequestError for less than one."""
    if number < 1:
        raise RequestError(f"{what}: there must be at least one, not {number}.")
    return number

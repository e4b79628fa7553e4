"""A folder in a depot that parts are shipped into and loaded from."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from functools import partial
from pathlib import Path

from splarn.core.load.request import Input, inputs_from_manifest
from splarn.core.shape.manifest import Manifest
from splarn.core.ship import ShipRecord, ShipRequest, ship
from splarn.core.ship.depot import Depot
from splarn.core.ship.record import Sent
from splarn.core.source.places import Place, Remote, place
from splarn.core.source.retry import Trying
from splarn.core.source.source import Source, look
from splarn.core.work.disk import outside
from splarn.core.work.pool import Inline, Pool
from splarn.core.work.progress import Progress
from splarn.depots import open_depot
from splarn.depots.arrived import below, inputs_at


class DepotLanding:
    """The folder `name` of the depot at an address; see Landing. Nothing is made yet.

    Raises RequestError for a depot of an unknown kind.
    """

    # What has arrived is read from there.
    read_here = False

    def __init__(self, depot: str, name: str) -> None:
        self._depot, self._name = depot, name
        self._sent: list[str] = []
        with closing(open_depot(depot)) as opened:
            self._place = opened.place

    @property
    def place(self) -> str:
        """See Landing."""
        return f"{self._place.rstrip('/')}/{self._name}".rstrip("/")

    def ship(self, manifest: Manifest, pool: Pool, progress: Progress | None = None) -> ShipRecord:
        """See Landing."""
        self._sent += [f"{self._name}/{Path(part.path).name}" for part in manifest.parts]
        with closing(open_depot(self._depot)) as depot:
            request = ShipRequest(
                tuple(manifest.folder / part.path for part in manifest.parts),
                depot,
                template=f"{self._name}/{{name}}",
            )
            return ship(request, pool, progress=progress)

    def inputs(self, manifest: Manifest) -> tuple[Input, ...]:
        """See Landing."""
        at = place(self._depot)
        if isinstance(at, Path):
            return inputs_from_manifest(replace(manifest, folder=at / self._name))
        return inputs_at(below(self._depot, self._name) + "/", manifest)

    @contextmanager
    def sender(self) -> Iterator[DepotSender]:
        """See Landing."""
        with closing(open_depot(self._depot)) as depot:
            yield DepotSender(depot, self._depot, self._name)

    def names(self) -> list[str]:
        """See Landing."""
        with closing(open_depot(self._depot)) as depot:
            names = Trying(depot.place, self._name).until_ready(depot.names)
        begin = f"{self._name}/"
        return [name.removeprefix(begin) for name in names if name.startswith(begin)]

    def clear(self) -> None:
        """See Landing. What this one did not send itself is found by listing the depot."""
        at = place(self._depot)
        if isinstance(at, Path):
            with outside(f"Removing {at / self._name}"):
                if (at / self._name).is_dir():
                    shutil.rmtree(at / self._name)
            return
        with closing(open_depot(self._depot)) as depot:
            trying = Trying(depot.place, self._name)
            sent = self._sent or [f"{self._name}/{name}" for name in self.names()]
            for name in sent:
                trying.until_ready(partial(depot.delete, name))
        self._sent = []


class DepotSender:
    """One stream into a folder of a depot; see Sender."""

    def __init__(self, depot: Depot, address: str, name: str) -> None:
        self._depot, self._address, self._name = depot, address, name

    def send(self, path: Path, part_id: str) -> Sent:
        """See Sender."""
        request = ShipRequest((path,), self._depot, template=f"{self._name}/{{name}}")
        return ship(request, Inline()).files[0]

    def source(self, path: Path, part_id: str, codec: str, format: str) -> Source:
        """See Sender."""
        name = path.name
        at = place(self._address)
        if isinstance(at, Path):
            where: Place = at / self._name / name
        else:
            where = Remote(below(below(self._address, self._name), name))
        size, stamp = look(where)
        return Source(where, size, stamp, codec, format)

    def remove(self, name: str) -> None:
        """See Sender."""
        trying = Trying(self._depot.place, name)
        trying.until_ready(partial(self._depot.delete, f"{self._name}/{name}"))

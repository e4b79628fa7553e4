"""Both stand-ins together, as `splarn standin` and the demo have them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from splarn.standin.physics import DepotPhysics, read_physics
from splarn.standin.serve import need_packages, served


@contextmanager
def standing_in(
    folder: Path,
    physics: str | None = None,
    depot: DepotPhysics | None = None,
    *,
    seed: int | None = None,
    ports: tuple[int, int] = (0, 0),
) -> Iterator[tuple[str, str]]:
    """The addresses of a depot and of a Millrace whose files lie in a folder.

    `depot` wins over what the physics say of it. Raises RequestError for physics that are none or
    without the packages, OutsideError when a port is taken.
    """
    need_packages()
    from splarn.standin.depot import SimulatedDepot
    from splarn.standin.millrace.api import Millrace
    from splarn.standin.millrace.physics import EnginePhysics

    over = {} if seed is None else {"seed": seed}
    engine = read_physics(physics, "millrace", EnginePhysics, **over)
    line = depot or read_physics(physics, "depot", DepotPhysics, **over)
    (folder / "depot").mkdir(parents=True, exist_ok=True)
    application = Millrace(folder / "millrace", engine, line)
    try:
        with (
            served(SimulatedDepot(folder / "depot", line), ports[0]) as store,
            served(application, ports[1]) as address,
        ):
            yield store, address.replace("http://", "millrace://")
    finally:
        application.close()

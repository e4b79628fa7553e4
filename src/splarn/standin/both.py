"""Both stand-ins together, as `splarn standin` and the demo have them."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from splarn.standin.millrace.physics import EnginePhysics
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import need_packages, served

# Where the depot and Millrace answer unless told otherwise.
PORTS = (27610, 27620)


def usual_ports() -> tuple[int, int]:
    """The usual ports where both are free, else any."""
    for port in PORTS:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return (0, 0)
    return PORTS


@contextmanager
def standing_in(
    folder: Path, depot: DepotPhysics, engine: EnginePhysics, ports: tuple[int, int] = (0, 0)
) -> Iterator[tuple[str, str]]:
    """The addresses of a depot and of a Millrace whose files lie in a folder; port 0 is any.

    Parts that are handed to the engine directly come over a line like the depot's.
    Raises RequestError without the packages, OutsideError when a port is taken.
    """
    need_packages()
    from splarn.standin.depot import SimulatedDepot
    from splarn.standin.millrace.api import Millrace

    (folder / "depot").mkdir(parents=True, exist_ok=True)
    application = Millrace(folder / "millrace", engine, depot)
    try:
        with (
            served(SimulatedDepot(folder / "depot", depot), ports[0]) as store,
            served(application, ports[1]) as address,
        ):
            yield store, address.replace("http://", "millrace://")
    finally:
        application.close()

"""`splarn standin`: simulated services on loopback."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer


def standin(
    folder: Annotated[
        Path, typer.Option("--folder", metavar="DIR", help="Where the depot's files lie.")
    ] = Path("depot"),
    port: Annotated[
        int, typer.Option("--port", metavar="N", min=0, max=65535, help="0 takes any free one.")
    ] = 8600,
    physics: Annotated[
        Path | None,
        typer.Option("--physics", metavar="FILE", help="TOML file with a section [depot]."),
    ] = None,
    latency: Annotated[
        str | None, typer.Option("--latency", metavar="DURATION", help="Of each request.")
    ] = None,
    stream_mbps: Annotated[
        float | None, typer.Option("--stream-mbps", metavar="N", help="MB/s of each stream.")
    ] = None,
    total_mbps: Annotated[
        float | None, typer.Option("--total-mbps", metavar="N", help="MB/s of all streams.")
    ] = None,
    requests: Annotated[
        float | None,
        typer.Option("--requests", metavar="N", help="Requests a second; others get 503."),
    ] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", metavar="S", help="Of the faults' luck.")
    ] = None,
) -> None:
    """Serve a simulated depot on loopback until Ctrl-C: slow, busy and faulty as you ask.

    Example: [bold]splarn standin --latency 20ms --stream-mbps 10 --total-mbps 80[/bold]

    The physics file may also cut connections, stall and spoil bytes: reset_share, stall_share,
    stall_seconds and corrupt_share.
    """
    from splarn.core.units import parse_duration
    from splarn.standin.physics import DepotPhysics, read_physics
    from splarn.standin.serve import server_for

    given: dict[str, Any] = {
        "latency": None if latency is None else parse_duration(latency),
        "stream_mbps": stream_mbps,
        "total_mbps": total_mbps,
        "requests_per_second": requests,
        "seed": seed,
    }
    over = {name: value for name, value in given.items() if value is not None}
    how = DepotPhysics(**over) if physics is None else read_physics(physics, **over)
    try:
        from splarn.standin.depot import SimulatedDepot
    except ModuleNotFoundError:
        server_for(None, 0)
        raise
    folder.mkdir(parents=True, exist_ok=True)
    server, listening = server_for(SimulatedDepot(folder, how), port)
    address = f"http://127.0.0.1:{listening.getsockname()[1]}"
    typer.echo(f"The simulated depot answers at {address}; its files lie in {folder}. Ctrl-C ends.")
    server.run(sockets=[listening])

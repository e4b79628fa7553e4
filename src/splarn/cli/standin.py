"""`splarn standin`: simulated services on loopback."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from splarn.cli.misuse import read
from splarn.cli.options import AsJson


def standin(
    folder: Annotated[
        Path, typer.Option("--folder", metavar="DIR", help="Where files and tables lie.")
    ] = Path("standin"),
    depot_port: Annotated[
        int,
        typer.Option("--depot-port", metavar="N", min=0, max=65535, help="0 takes any free one."),
    ] = 27610,
    engine_port: Annotated[
        int,
        typer.Option("--engine-port", metavar="N", min=0, max=65535, help="0 takes any free one."),
    ] = 27620,
    physics: Annotated[
        str | None,
        typer.Option("--physics", metavar="NAME", help="A shipped preset, or a TOML file."),
    ] = None,
    latency: Annotated[
        str | None,
        typer.Option("--latency", metavar="DURATION", help="Of each request to the depot."),
    ] = None,
    stream_megabytes: Annotated[
        float | None,
        typer.Option("--stream-megabytes", metavar="N", help="The depot's MB/s of each stream."),
    ] = None,
    total_megabytes: Annotated[
        float | None,
        typer.Option("--total-megabytes", metavar="N", help="The depot's MB/s of all."),
    ] = None,
    requests: Annotated[
        float | None,
        typer.Option("--requests", metavar="N", help="The depot's a second; others get 503."),
    ] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", metavar="S", help="Of the physics' luck.")
    ] = None,
    settings: Annotated[
        list[str] | None,
        typer.Option(
            "--set", metavar="KEY=VALUE", help="Any key of the physics, as depot.reset_share=0.05."
        ),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Serve a simulated depot and Millrace, a simulated elastic engine, until Ctrl-C.

    Example: [bold]splarn standin --physics crowded --latency 20ms[/bold]

    The depot is a plain HTTP store that is as slow, busy and faulty as its physics say. Millrace
    really reads and stores rows; only its clock is simulated, so that trying 32 units takes
    seconds. Presets: steady, crowded, narrow, rough, miniature. The guide "Depots, tiers and
    prices" explains every key.
    """
    import signal
    import sys
    import threading

    from splarn.cli.output import Output
    from splarn.core.units import parse_duration
    from splarn.standin.both import standing_in
    from splarn.standin.millrace.physics import EnginePhysics
    from splarn.standin.physics import DepotPhysics, read_physics

    given: dict[str, Any] = {
        "latency": None if latency is None else read("--latency", parse_duration, latency),
        "stream_megabytes": stream_megabytes,
        "total_megabytes": total_megabytes,
        "requests_per_second": requests,
        "seed": seed,
    }
    over = {name: value for name, value in given.items() if value is not None}
    extra = _settings(settings or [])
    over |= extra["depot"]
    depot = read_physics(physics, "depot", DepotPhysics, **over)
    seeded = {} if seed is None else {"seed": seed}
    millrace = read_physics(physics, "millrace", EnginePhysics, **seeded, **extra["millrace"])
    stopped = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: stopped.set())
    out = Output(as_json)
    ports = (depot_port, engine_port)
    with standing_in(folder, depot, millrace, ports) as (store, engine):
        out.say(f"The simulated depot answers at {store}, Millrace at {engine}.")
        out.say(f"What they keep lies in {folder}. Ctrl-C ends them.")
        out.document({"depot": store, "engine": engine, "folder": str(folder)})
        sys.stdout.flush()
        # Waiting with an end lets signals through.
        while not stopped.wait(3600):
            pass


def _settings(given: list[str]) -> dict[str, dict[str, Any]]:
    """What --set gives, by section."""
    import tomllib

    from splarn.core.errors import RequestError

    settings: dict[str, dict[str, Any]] = {"depot": {}, "millrace": {}}
    for text in given:
        key, equals, value = text.partition("=")
        section, _, name = key.strip().partition(".")
        if section not in settings or not name or not equals:
            raise RequestError(
                f"--set {text!r} is not understood: write it like depot.reset_share=0.05 or "
                "millrace.noise=0.1."
            )
        try:
            settings[section][name] = tomllib.loads(f"value = {value}")["value"]
        except tomllib.TOMLDecodeError:
            settings[section][name] = value
    return settings

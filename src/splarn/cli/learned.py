"""What forecast and plan share: the model from a sweep, the volume, and their table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from splarn.cli.context import Context
from splarn.cli.output import Output
from splarn.core.errors import RequestError

if TYPE_CHECKING:
    from splarn.core.configuration import Configuration
    from splarn.core.ledger import Entry
    from splarn.core.model.fit import Model
    from splarn.core.model.forecast import Forecast
    from splarn.core.model.laws import Volume
    from splarn.core.places import Place


def learn(context: Context, sweep: str | None) -> tuple[Model, Entry]:
    """The model fitted to a sweep's trials, and the sweep."""
    from splarn.core.model.fit import fit_model
    from splarn.core.trial.trial import Trial

    with context.ledger() as ledger:
        entry = ledger.find(sweep) if sweep else ledger.last("sweep")
        if entry is None or entry.kind != "sweep":
            raise RequestError(
                f"There is no sweep to learn from in the ledger {ledger.path}: run `splarn sweep` "
                "first."
            )
        trials = ledger.entries("trial", parent=entry.id)
    return fit_model([Trial.from_json(trial.document) for trial in trials]), entry


def volume_of(sweep: Entry, paths: Sequence[Place] | None, size: str | None) -> Volume:
    """How much is to be loaded: the size given, or that of the source files."""
    from splarn.core.codecs import codec_of
    from splarn.core.model.laws import Volume
    from splarn.core.survey import survey
    from splarn.core.units import parse_size

    sample = sweep.document["sample"]
    row_bytes = sample["bytes"] / max(sample["rows"], 1)
    if size is not None:
        wanted = parse_size(size)
        return Volume(wanted, wanted / row_bytes)
    files = list(paths or [])
    if all(codec_of(path) == "none" and path.suffix != ".parquet" for path in files):
        total = sum(path.stat().st_size for path in files)
        return Volume(total, total / row_bytes)
    rows = survey(files).rows
    if rows is None:
        raise RequestError("A source file is damaged, so its volume is not known: survey it.")
    return Volume(rows * row_bytes, rows)


def show_forecasts(
    out: Output, forecasts: Sequence[Forecast], currency: str, chosen: Forecast | None = None
) -> None:
    """Forecasts as a table; the chosen one is marked, levers all alike are said once above."""
    from splarn.core.units import show_duration, show_money

    levers = varying(out, [entry.configuration for entry in forecasts])
    out.table(
        ["", *levers.values(), ">time", ">90 % interval", ">cost", "frontier"],
        (
            (
                "→" if entry is chosen else "",
                *(entry.configuration.show(lever) for lever in levers),
                show_duration(entry.seconds.median),
                f"{show_duration(entry.seconds.low)} – {show_duration(entry.seconds.high)}",
                show_money(entry.cost.median, currency),
                ("yes" if entry.on_frontier else "") + (" *" if entry.extrapolated else ""),
            )
            for entry in forecasts
        ),
    )
    if any(entry.extrapolated for entry in forecasts):
        out.note("* reaches beyond what trials covered: take such forecasts with care.")


def varying(out: Output, configurations: Sequence[Configuration]) -> dict[str, str]:
    """The levers that differ among configurations, with their names; the others are said."""
    from splarn.core.configuration import LEVERS

    if not configurations:
        return {}
    first = configurations[0]
    alike = {
        lever
        for lever in LEVERS
        if all(getattr(one, lever) == getattr(first, lever) for one in configurations)
    }
    if len(configurations) == 1:
        out.say(f"Configuration: {first}.")
        return {}
    if alike:
        same = ", ".join(
            f"{LEVERS[lever]} {first.show(lever)}" for lever in LEVERS if lever in alike
        )
        out.say(f"The same for all: {same}.")
    return {lever: _column(lever) for lever in LEVERS if lever not in alike}


def _column(lever: str) -> str:
    """A lever's column, flush right where it is a number."""
    from splarn.core.configuration import LEVERS
    from splarn.core.levers import LOAD_LEVERS

    return LEVERS[lever] if lever in ("packing", "tier", *LOAD_LEVERS) else f">{LEVERS[lever]}"

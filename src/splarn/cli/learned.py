"""What forecast and plan share: the model from a sweep, the volume, and their table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from splarn.cli.context import Context
from splarn.cli.misuse import read
from splarn.cli.output import Output
from splarn.cli.tables import Column
from splarn.core.errors import RequestError
from splarn.core.units import plural

if TYPE_CHECKING:
    from splarn.core.layout import Layout
    from splarn.core.ledger import Entry, Ledger
    from splarn.core.source.places import Place
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.configuration import Configuration
    from splarn.core.tuning.fit import Model
    from splarn.core.tuning.forecast import Forecast

# A sweep that was broken off tells something from so many trials on.
LEAST_TRIALS = 4


def learn(
    context: Context,
    sweep: str | None,
    target: str | None,
    layout: Layout | None,
    files: Sequence[Place] | None = None,
    depot: str | None = None,
) -> tuple[Model, Entry]:
    """The model fitted to the trials of a sweep, and the sweep.

    Trials tell of their own target, layout and way only (`depot` as shown, empty for none; None for
    whichever): the newest sweep of just these is taken, one that ended before one that was broken
    off. One that is named is taken, and what differs is said.
    Raises RequestError when none fits; it lists those that there are.
    """
    from splarn.core.tuning.fit import fit_model
    from splarn.core.tuning.trial import Trial

    with context.ledger() as ledger:
        if sweep:
            entry = ledger.find(sweep)
            if entry.kind != "sweep":
                raise RequestError(f"{entry.id} is a {entry.kind}, not a sweep: name a sweep.")
            for difference in _differences(entry, target, layout, depot):
                context.out.note(f"{entry.id} {difference}: its trials may say little about this.")
        else:
            entry = _fitting(context, ledger, target, layout, depot)
        trials = ledger.entries("trial", parent=entry.id)
    if "stopped_because" not in entry.document:
        context.out.note(f"{entry.id} was broken off after {plural(len(trials), 'trial')}.")
    known = entry.document.get("source", {}).get("paths")
    if files and known is not None and sorted(map(str, files)) != sorted(known):
        context.out.note(f"{entry.id} took its sample from other files than these.")
    return fit_model([Trial.from_json(trial.document) for trial in trials]), entry


def require_sweep(context: Context) -> None:
    """Raises RequestError when there is no sweep at all."""
    with context.ledger() as ledger:
        if not ledger.entries("sweep"):
            raise _no_sweep(ledger)


def _no_sweep(ledger: Ledger) -> RequestError:
    return RequestError(
        f"There is no sweep to learn from in the ledger {ledger.path}: run `splarn sweep` first."
    )


def _fitting(
    context: Context,
    ledger: Ledger,
    target: str | None,
    layout: Layout | None,
    depot: str | None,
) -> Entry:
    """The sweep to learn from when none is named."""
    sweeps = ledger.entries("sweep")
    if not sweeps:
        raise _no_sweep(ledger)
    if target is None and len({one.document.get("target") for one in sweeps}) > 1:
        raise RequestError(
            f"The ledger has sweeps of several targets: give --to, or --sweep with one of "
            f"{_listed(ledger, sweeps)}."
        )
    fitting = [one for one in sweeps if not _differences(one, target, layout, depot)]
    ended = [one for one in fitting if "stopped_because" in one.document]
    broken = [one for one in fitting if len(ledger.entries("trial", parent=one.id)) >= LEAST_TRIALS]
    if not ended and not broken:
        raise RequestError(
            "No sweep in the ledger is of this target, layout and depot: run `splarn sweep` for "
            f"them, or name one with --sweep: {_listed(ledger, sweeps)}."
        )
    return (ended or broken)[-1]


def _differences(
    entry: Entry, target: str | None, layout: Layout | None, depot: str | None
) -> list[str]:
    """In what a sweep is not about this target, layout and depot, in words."""
    from splarn.engines import identity

    differences, document = [], entry.document
    if target is not None and document.get("target_id", document["target"]) != identity(target):
        differences.append(f"is of the target {document['target']}")
    if layout is not None and document.get("layout") != layout_id(layout):
        differences.append(f"is of the layout {document.get('layout_name', 'unknown')}")
    way = document.get("depot", "")
    if depot is not None and way != depot:
        differences.append(f"went by way of the depot {way}" if way else "shipped to no depot")
    return differences


def _listed(ledger: Ledger, sweeps: Sequence[Entry]) -> str:
    shown = []
    for one in sweeps[-5:]:
        trials = plural(len(ledger.entries("trial", parent=one.id)), "trial")
        state = "ended" if "stopped_because" in one.document else "broken off"
        layout = one.document.get("layout_name", "unknown")
        target = one.document["target"]
        shown.append(f"{one.id} ({target}, layout {layout}, {trials}, {state})")
    return ", ".join(shown)


def layout_id(layout: Layout) -> str:
    """What tells one layout from another."""
    import json

    import xxhash

    from splarn.core.layout.descriptor import to_descriptor

    return xxhash.xxh3_64_hexdigest(json.dumps(to_descriptor(layout), sort_keys=True).encode())


def volume_of(sample: Mapping[str, Any], paths: Sequence[Place] | None, size: str | None) -> Volume:
    """How much is to be loaded, unpacked: the size given, or that of the source files.

    `sample` are the bytes and rows of a sample of them.
    """
    from splarn.core.source.source import Source
    from splarn.core.survey import survey
    from splarn.core.tuning.columns import Volume
    from splarn.core.units import parse_size

    row_bytes = sample["bytes"] / max(sample["rows"], 1)
    if size is not None:
        wanted = read("--volume", parse_size, size)
        return Volume(wanted, wanted / row_bytes)
    files = list(paths or [])
    sources = [Source.of(path) for path in files]
    if all(source.codec == "none" and source.format != "parquet" for source in sources):
        total = sum(source.size for source in sources)
        return Volume(total, total / row_bytes)
    catalogue = survey(files)
    if catalogue.rows is None:
        raise RequestError("A source file is damaged, so its volume is not known: survey it.")
    low, high = catalogue.rows_bounds
    error = (high - low) / 2 / max(catalogue.rows, 1)
    return Volume(catalogue.rows * row_bytes, catalogue.rows, error)


def say_volume(out: Output, volume: Volume) -> None:
    """Says how sure the volume is, where it is an estimate."""
    if volume.error >= 0.005:
        out.note(
            f"How much the packed files hold is an estimate, give or take {volume.error:.0%}, "
            "which the intervals include: `splarn survey --exact` counts."
        )


def show_forecasts(
    out: Output, forecasts: Sequence[Forecast], currency: str, chosen: Forecast | None = None
) -> None:
    """Forecasts as a table; the chosen one is marked, levers all alike are said once above."""
    from splarn.core.units import show_duration, show_money, show_range

    levers = varying(out, [entry.configuration for entry in forecasts])
    out.table(
        [
            "",
            *levers.values(),
            ">time",
            Column(">90 % interval", 2),
            f">cost, {currency}",
            Column("frontier", 1),
        ],
        (
            (
                "→" if entry is chosen else "",
                *(entry.configuration.show(lever) for lever in levers),
                show_duration(entry.seconds.median),
                show_range(entry.seconds.low, entry.seconds.high, show_duration),
                show_money(entry.cost.median),
                ("yes" if entry.on_frontier else "") + (" *" if entry.extrapolated else ""),
            )
            for entry in forecasts
        ),
    )
    if any(entry.extrapolated for entry in forecasts):
        out.note("* reaches beyond what trials covered: take such forecasts with care.")


def varying(out: Output, configurations: Sequence[Configuration]) -> dict[str, Column]:
    """The levers that differ among configurations, with their names; the others are said."""
    from splarn.core.tuning.configuration import LEVERS

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
            f"{LEVERS[lever].words} {first.show(lever)}"
            for lever in LEVERS
            if lever in alike and (lever != "transfer_streams" or first.transfer_streams)
        )
        out.say(f"The same for all: {same}.")
    return {lever: _column(lever) for lever in LEVERS if lever not in alike}


def _column(lever: str) -> Column:
    """A lever's column, flush right where it is a number."""
    from splarn.core.tuning.configuration import LEVERS

    definition = LEVERS[lever]
    return Column(f">{definition.words}" if definition.is_number else definition.words, joins=True)

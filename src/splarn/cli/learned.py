"""What forecast and plan share: the model from a sweep, the volume, and their table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
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
    from splarn.core.prices import Prices
    from splarn.core.source.codecs import Packing
    from splarn.core.source.places import Place
    from splarn.core.tuning.columns import Packed, Volume
    from splarn.core.tuning.configuration import Configuration
    from splarn.core.tuning.evidence import Evidence
    from splarn.core.tuning.forecast import Forecast
    from splarn.core.tuning.model import Model

# A sweep that was broken off tells something from so many trials on.
LEAST_TRIALS = 4
# What makes one load like another, in the documents of sweeps and runs.
OF_A_LOAD = ("target_id", "layout", "depot")


@dataclass(frozen=True)
class Learned:
    """The model, the newest sweep that it comes from, and all that it was fitted to.

    `packed` is what packings were measured to do.
    """

    model: Model
    sweep: Entry
    evidence: Evidence
    packed: Mapping[str, Packed]

    @property
    def words(self) -> str:
        """What it was learnt from, for a person."""
        evidence = self.evidence
        of_sweep = plural(self.model.trials - evidence.runs, "trial")
        runs = f" and {plural(evidence.runs, 'whole load')}" if evidence.runs else ""
        return f"{of_sweep}{runs} of {self.sweep.id}" + (
            f" and {plural(evidence.others, 'other sweep')}" if evidence.others else ""
        )


def learn(
    context: Context,
    sweep: str | None,
    target: str | None,
    layout: Layout | None,
    files: Sequence[Place] | None = None,
    depot: str | None = None,
    packings: Sequence[Packing] = (),
    engine: str = "",
) -> Learned:
    """What the ledger tells of loads into a target: trials of its sweeps, and whole loads.

    Trials tell of their own target, layout and way only (`depot` as shown, empty for none; None for
    whichever): the newest sweep of just these is taken, one that ended before one that was broken
    off; earlier ones and runs are added by how alike they are. A sweep that is named is taken by
    itself, and what differs is said, as it is where the target is another `engine` by now. What
    these `packings` do that no trial had is measured.
    Raises RequestError when none fits; it lists those that there are.
    """
    from splarn.core.tuning.columns import Packed
    from splarn.core.tuning.doubts import calibrated
    from splarn.core.tuning.evidence import ANOTHER_PLACE, Evidence, looseness
    from splarn.core.tuning.fit import fit_model
    from splarn.core.tuning.trial import Trial

    def trials_of(entry: Entry) -> list[Trial]:
        entries = ledger.entries("trial", parent=entry.id)
        return [Trial.from_json(trial.document) for trial in entries]

    with context.ledger() as ledger:
        if sweep:
            entry = ledger.find(sweep)
            if entry.kind != "sweep":
                raise RequestError(f"{entry.id} is a {entry.kind}, not a sweep: name a sweep.")
            for difference in _differences(entry, target, layout, depot):
                context.out.note(f"{entry.id} {difference}: its trials may say little about this.")
            fitting = [entry]
        else:
            fitting = _fitting(context, ledger, target, layout, depot)
            entry = fitting[-1]
        evidence = Evidence()
        own = trials_of(entry)
        here = {**entry.document, **({"engine": engine} if engine else {})}
        then = entry.document.get("engine", "")
        changed = bool(engine and then and engine != then)
        if changed:
            context.out.note(
                f"{entry.id} was of {then}, and the target is {engine} now: its trials weigh less, "
                "and intervals are wider, until there is a sweep of it as it is."
            )
        evidence.add(own, ANOTHER_PLACE if changed else 1.0)
        for other in fitting[:-1]:
            found = trials_of(other)
            evidence.others += bool(found)
            evidence.add(found, looseness(here, other.document))
        for run in ledger.entries("run") if not sweep else ():
            same = (entry.document.get(what) == run.document.get(what) for what in OF_A_LOAD)
            if run.document.get("trial") and all(same):
                trial = Trial.from_json(run.document["trial"])
                evidence.add([trial], looseness(here, run.document, True))
    if "stopped_because" not in entry.document:
        context.out.note(f"{entry.id} was broken off after {plural(len(own), 'trial')}.")
    known = entry.document.get("source", {}).get("paths")
    if files and known is not None and sorted(map(str, files)) != sorted(known):
        context.out.note(f"{entry.id} took its sample from other files than these.")
    told = entry.document.get("packings", {})
    packed = {name: Packed(**one) for name, one in told.items()}
    form = str(entry.document.get("format", "csv"))
    new = [one for one in packings if f"{form} {one}" not in packed]
    if files and new and form != "parquet":
        from splarn.core.tuning.packings import measured

        packed |= measured(files, form, new)
    model = calibrated(fit_model(evidence.trials, packed, evidence.loose), evidence.trials)
    return Learned(model, entry, evidence, packed)


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
) -> list[Entry]:
    """The sweeps to learn from when none is named, that which says most last."""
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
    best = (ended or broken)[-1]
    if target is None:
        return [best]
    known = {one.id: one for one in (*ended, *broken) if one.id != best.id}
    return [*known.values(), best]


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


def volume_of(
    sample: Mapping[str, Any],
    paths: Sequence[Place] | None,
    size: str | None,
    by_rows: bool = False,
) -> Volume:
    """How much is to be loaded, unpacked: the size given, or that of the source files.

    `sample` are the bytes and rows of a sample of them; of files of other layouts it is their rows
    that tell (`by_rows`), as if they were like the sample's.
    """
    from splarn.core.source.source import Source
    from splarn.core.survey import survey
    from splarn.core.tuning.columns import Volume
    from splarn.core.units import parse_volume

    row_bytes = sample["bytes"] / max(sample["rows"], 1)
    if size is not None:
        wanted = read("--volume", parse_volume, size)
        return Volume(wanted, wanted / row_bytes)
    files = list(paths or [])
    sources = [Source.of(path) for path in files]
    plain = all(source.codec == "none" and source.format != "parquet" for source in sources)
    if plain and not by_rows:
        total = sum(source.size for source in sources)
        sizes = tuple(float(source.size) for source in sources)
        return Volume(total, total / row_bytes, files=sizes)
    catalogue = survey(files)
    if catalogue.rows is None:
        raise RequestError("A source file is damaged, so its volume is not known: survey it.")
    low, high = catalogue.rows_bounds
    error = (high - low) / 2 / max(catalogue.rows, 1)
    total = catalogue.rows * row_bytes
    packed = max(sum(source.size for source in sources), 1)
    sizes = tuple(total * source.size / packed for source in sources)
    return Volume(total, catalogue.rows, error, sizes)


def say_volume(out: Output, volume: Volume) -> None:
    """Says how sure the volume is, where it is an estimate."""
    if volume.error >= 0.005:
        out.note(
            f"How much the packed files hold is an estimate, give or take {volume.error:.0%}, "
            "which the intervals include: `splarn survey --exact` counts."
        )


def say_learned(out: Output, learned: Learned, prices: Prices) -> None:
    """Says what the last whole load changed, and what does not fit the laws."""
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.doubts import doubts
    from splarn.core.tuning.fit import fit_model
    from splarn.core.tuning.forecast import forecast
    from splarn.core.units import show_change, show_duration

    for one in doubts(learned.model):
        out.note(one)
    runs = [trial for trial in learned.evidence.trials if trial.role == "run"]
    if not runs or out.as_json:
        return
    last, before = runs[-1], learned.evidence.without_runs()
    volume = Volume(last.bytes, last.rows)
    old = fit_model(before.trials, learned.packed, before.loose)
    told = [forecast(one, [last.configuration], volume, prices)[0] for one in (old, learned.model)]
    first, now = (one.seconds.median if last.overlapped else one.in_turn.median for one in told)
    took = last.overlapped or last.seconds
    out.say(
        f"The last whole load took {show_duration(took)}; trials alone would have said "
        f"{show_duration(first)} ({show_change(first / took - 1)}), with it they say "
        f"{show_duration(now)} ({show_change(now / took - 1)})."
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

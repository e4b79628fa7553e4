"""The model out of a ledger: which sweeps and whole loads tell of a load, and what they say."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from splarn.core.errors import RequestError
from splarn.core.ledger import Entry, Ledger
from splarn.core.source.codecs import Packing
from splarn.core.source.places import Place, is_url
from splarn.core.tuning.columns import Packed
from splarn.core.tuning.doubts import calibrated
from splarn.core.tuning.evidence import ANOTHER_PLACE, Evidence, looseness
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.model import Model
from splarn.core.tuning.packings import measured
from splarn.core.tuning.trial import Trial
from splarn.core.units import plural

Say = Callable[[str], None]

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
    def joining(self) -> float:
        """Seconds that joining a cluster took, where the sweep was on one."""
        return float(self.sweep.document.get("cluster", {}).get("join_seconds", 0))

    @property
    def words(self) -> str:
        """What it was learnt from, for a person."""
        evidence = self.evidence
        of_sweep = plural(self.model.trials - evidence.runs, "trial")
        runs = f" and {plural(evidence.runs, 'whole load')}" if evidence.runs else ""
        return f"{of_sweep}{runs} of {self.sweep.id}" + (
            f" and {plural(evidence.others, 'other sweep')}" if evidence.others else ""
        )


@dataclass(frozen=True)
class Wanted:
    """What a load must be for trials to tell of it; None for whichever.

    `target_id` tells its target from others, `layout` is its layout's id, `depot` how its way is
    known (empty for none). `engine` is the target's version now, empty where that is not known.
    """

    target_id: str | None = None
    layout: str | None = None
    depot: str | None = None
    engine: str = ""


def learn(
    ledger: Ledger,
    wanted: Wanted,
    sweep: str | None = None,
    files: Sequence[Place] | None = None,
    packings: Sequence[Packing] = (),
    say: Say = lambda text: None,
) -> Learned:
    """What a ledger tells of a load: trials of its sweeps, and whole loads.

    Trials tell of their own target, layout and way only: the newest sweep of just these is taken,
    one that ended before one that was broken off; earlier ones and runs are added by how alike they
    are. A `sweep` that is named is taken by itself, and what differs is said, as it is where the
    target is another engine by now. What these `packings` do that no trial had is measured on the
    `files`.
    Raises RequestError when none fits; it lists those that there are.
    """
    if sweep:
        entry = ledger.find(sweep)
        if entry.kind != "sweep":
            raise RequestError(f"{entry.id} is a {entry.kind}, not a sweep: name a sweep.")
        for difference in _differences(entry, wanted):
            say(f"{entry.id} {difference}: its trials may say little about this.")
        fitting = [entry]
    else:
        fitting = _fitting(ledger, wanted)
        entry = fitting[-1]
    evidence = Evidence()
    own = trials_of(ledger, entry.id)
    engine, then = wanted.engine, entry.document.get("engine", "")
    here = {**entry.document, **({"engine": engine} if engine else {})}
    changed = bool(engine and then and engine != then)
    if changed:
        say(
            f"{entry.id} was of {then}, and the target is {engine} now: its trials weigh less, "
            "and intervals are wider, until there is a sweep of it as it is."
        )
    evidence.add(own, ANOTHER_PLACE if changed else 1.0)
    for other in fitting[:-1]:
        found = trials_of(ledger, other.id)
        evidence.others += bool(found)
        evidence.add(found, looseness(here, other.document))
    for run in ledger.entries("run") if not sweep else ():
        same = (entry.document.get(what) == run.document.get(what) for what in OF_A_LOAD)
        if run.document.get("trial") and all(same):
            trial = Trial.from_json(run.document["trial"])
            evidence.add([trial], looseness(here, run.document, True))
    if "stopped_because" not in entry.document:
        say(f"{entry.id} was broken off after {plural(len(own), 'trial')}.")
    known = entry.document.get("source", {}).get("paths")
    if files and known is not None and _named(map(str, files)) != _named(known):
        say(f"{entry.id} took its sample from other files than these.")
    told = entry.document.get("packings", {})
    packed = {name: Packed(**one) for name, one in told.items()}
    form = str(entry.document.get("format", "csv"))
    new = [one for one in packings if f"{form} {one}" not in packed]
    if files and new and form != "parquet":
        packed |= measured(files, form, new)
    model = calibrated(fit_model(evidence.trials, packed, evidence.loose), evidence.trials)
    return Learned(model, entry, evidence, packed)


def require_sweep(ledger: Ledger) -> None:
    """Raises RequestError when there is no sweep at all."""
    if not ledger.entries("sweep"):
        raise _no_sweep(ledger)


def trials_of(ledger: Ledger, sweep_id: str) -> list[Trial]:
    """The trials of a sweep, in their order."""
    entries = ledger.entries("trial", parent=sweep_id)
    return [Trial.from_json(one.document) for one in entries]


def _no_sweep(ledger: Ledger) -> RequestError:
    return RequestError(
        f"There is no sweep to learn from in the ledger {ledger.path}: run `splarn sweep` first."
    )


def _fitting(ledger: Ledger, wanted: Wanted) -> list[Entry]:
    """The sweeps to learn from when none is named, that which says most last."""
    sweeps = ledger.entries("sweep")
    if not sweeps:
        raise _no_sweep(ledger)
    if wanted.target_id is None and len({one.document.get("target") for one in sweeps}) > 1:
        raise RequestError(
            f"The ledger has sweeps of several targets: give --to, or --sweep with one of "
            f"{_listed(ledger, sweeps)}."
        )
    fitting = [one for one in sweeps if not _differences(one, wanted)]
    ended = [one for one in fitting if "stopped_because" in one.document]
    broken = [one for one in fitting if len(ledger.entries("trial", parent=one.id)) >= LEAST_TRIALS]
    if not ended and not broken:
        raise RequestError(
            "No sweep in the ledger is of this target, layout and depot: run `splarn sweep` for "
            f"them, or name one with --sweep: {_listed(ledger, sweeps)}."
        )
    best = (ended or broken)[-1]
    if wanted.target_id is None:
        return [best]
    known = {one.id: one for one in (*ended, *broken) if one.id != best.id}
    return [*known.values(), best]


def _differences(entry: Entry, wanted: Wanted) -> list[str]:
    """In what a sweep is not about what is wanted, in words."""
    differences, document = [], entry.document
    target = document.get("target_id", document["target"])
    if wanted.target_id is not None and target != wanted.target_id:
        differences.append(f"is of the target {document['target']}")
    if wanted.layout is not None and document.get("layout") != wanted.layout:
        differences.append(f"is of the layout {document.get('layout_name', 'unknown')}")
    way = document.get("depot", "")
    if wanted.depot is not None and way != wanted.depot:
        differences.append(f"went by way of the depot {way}" if way else "shipped to no depot")
    return differences


def _named(files: Iterable[str]) -> list[str]:
    """Files by names that tell them apart wherever they are named."""
    return sorted(one if is_url(one) else str(Path(one).absolute()) for one in files)


def _listed(ledger: Ledger, sweeps: Sequence[Entry]) -> str:
    shown = []
    for one in sweeps[-5:]:
        trials = plural(len(ledger.entries("trial", parent=one.id)), "trial")
        state = "ended" if "stopped_because" in one.document else "broken off"
        layout = one.document.get("layout_name", "unknown")
        target = one.document["target"]
        shown.append(f"{one.id} ({target}, layout {layout}, {trials}, {state})")
    return ", ".join(shown)

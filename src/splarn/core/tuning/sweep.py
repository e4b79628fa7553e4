"""A sweep from its request to its end: what is tried, where it is noted, and how it goes on."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import layout_id
from splarn.core.ledger import Ledger, entry_id
from splarn.core.load.landing import WholeLanding
from splarn.core.load.sizing import size_of
from splarn.core.prices import Prices, reckon
from splarn.core.prices.pricelist import tier_of
from splarn.core.source.places import Place
from splarn.core.target.session import OpenEngine, Session
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import REGRET, STRATEGIES, Space
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.foreseen import FURTHER, Foreseen, by_model
from splarn.core.tuning.packings import measured
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.possible import rules_of_machines, rules_of_target, rules_of_volume
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.readers import require_reading
from splarn.core.tuning.runner import Budgets, TrialPlace, run_trials
from splarn.core.tuning.sample import Sample, Samples, take_sample
from splarn.core.tuning.strategy import Strategy, largest, strategy_by
from splarn.core.tuning.trial import Trial
from splarn.core.tuning.trial_table import TrialTable, left_tables, remove_table, trial_table
from splarn.core.tuning.volume import volume_of
from splarn.core.work.pools import Pools
from splarn.core.work.progress import Progress

# Why a sweep may stop that can go on.
BUDGETS_SPENT = ("time spent", "money spent")


@dataclass(frozen=True)
class SweepRequest:
    """What is to be tried.

    `target` is how the target may be shown and `target_id` what tells it from others; `table` is
    the one that trials stand for, empty for none. `sample_bytes` of the source are loaded by each
    trial. `priced` says whether `prices` are real. `seconds` and `money` are budgets. Parts go by
    way of the `landing` of a name, where there is one; `depot` is how that is shown.
    """

    files: tuple[Place, ...]
    layout: Layout
    open_engine: OpenEngine
    target: str
    target_id: str
    space: Space
    sample_bytes: int
    table: str | None = None
    limits: Limits = field(default_factory=Limits)
    prices: Prices = field(default_factory=Prices)
    priced: bool = False
    strategy: str = "adaptive"
    regret: float = REGRET
    repeats: int = 1
    seed: int = 1
    seconds: float | None = None
    money: float | None = None
    depot: str = ""
    landing: Callable[[str], WholeLanding] | None = None
    cold: bool = False
    readers: int = 0
    reading: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.strategy not in STRATEGIES:
            raise RequestError(
                f"The strategy {self.strategy!r} is not known; use {', '.join(STRATEGIES)}."
            )
        if bool(self.readers) != bool(self.reading):
            wanted = "--reading with a statement"
            if not self.readers:
                wanted = "--readers with how many sessions"
            raise RequestError(f"Reading beside trials needs both: give {wanted} as well.")
        if self.money is not None and not self.priced:
            raise RequestError("A money budget needs prices: name a price list.")


class Sweep:
    """One sweep: prepared when made, then opened in the ledger, carried out and ended.

    `space` is what of the request's can be tried, `taken` the sample, `volume` all that is to be
    decided about, `chooser` what picks the trials, `packed` what packings were measured to do,
    `foreseen` what it will about take by the last sweep of the same. Once opened, `id` and `trials`
    are its own; a sweep of the same request that was interrupted goes on.
    """

    def __init__(
        self, request: SweepRequest, session: Session, ledger: Ledger, pools: Pools, scratch: Path
    ) -> None:
        """`session` must stay open as long as the sweep; `scratch` is a folder for its files.

        Raises RequestError where nothing of the space can be tried, or a statement is refused.
        """
        self.request, self.session, self.ledger = request, session, ledger
        self.pools, self.scratch = pools, scratch
        for statement in request.reading:
            require_reading(statement)
            if "{table}" not in statement:
                # What the target refuses is found before the first trial.
                session.read(statement)
        size = size_of(session)
        tiers = None if size is None else size.tiers
        space = request.space.without(rules_of_target(request.space, request.open_engine(), tiers))
        space = space.without(rules_of_machines(space, pools))
        if request.priced:
            for tier in space.values["tier"]:
                tier_of(request.prices, tier)
        files, layout = request.files, request.layout
        cores = pools.threads(pools.usual(sum(file.stat().st_size for file in files)))

        def take(size: int) -> Sample:
            return take_sample(files, layout, size, scratch / f"sample-{size}", cores)

        self.samples = Samples(take(request.sample_bytes), take)
        self.taken = self.samples.sample
        self.volume = volume_of({"bytes": self.taken.bytes, "rows": self.taken.rows}, files)
        tried = Volume(self.taken.bytes, self.taken.rows)
        most = largest(tried, self.volume) if request.strategy == "adaptive" else tried
        self.space = space.without(rules_of_volume(space, most, self.volume))
        self.aim = Aim(self.volume, request.limits, request.prices)
        text = layout.format != "parquet"
        packings = space.values["packing"]
        self.packed = measured(files, layout.format, packings) if text else {}
        self.chooser: Strategy = strategy_by(
            request.strategy, self.space, self.aim, tried, request.repeats, request.seed,
            request.regret, self.packed,
        )  # fmt: skip
        known = earlier_trials(
            ledger, target_id=request.target_id, layout=layout_id(layout), depot=request.depot,
            readers=request.readers,
        )  # fmt: skip
        self.foreseen = foresee(self.chooser, self.space, self.aim, tried, known)
        self.id = ""
        self.trials: list[Trial] = []
        self.document = self._document()

    def _document(self) -> dict[str, Any]:
        request = self.request
        return {
            "space": self.space.as_json(),
            "strategy": request.strategy,
            "regret": request.regret,
            "repeats": request.repeats,
            "seed": request.seed,
            "target": request.target,
            "target_id": request.target_id,
            "depot": request.depot,
            "cold": request.cold,
            "readers": request.readers,
            "reading": list(request.reading),
            "engine": self.session.version(),
            "layout": layout_id(request.layout),
            "layout_name": request.layout.name,
            "machine": self.pools.described,
            "format": request.layout.format,
            "source": {"paths": [str(path) for path in request.files]},
            "sample": {"bytes": self.taken.bytes, "rows": self.taken.rows},
            "packings": {name: asdict(one) for name, one in self.packed.items()},
        }

    def open(self) -> list[str]:
        """Notes the sweep, or goes on with an interrupted one of the same request.

        Returns the tables that killed sweeps had left, which are gone now.
        """
        self.id, self.trials = open_sweep(self.ledger, self.session, self.document)
        left = left_tables(self.session)
        for note in left:
            remove_table(self.request.open_engine, note, self.request.landing)
        return [note.table for note in left]

    def cost(self, trial: Trial) -> float:
        """What a trial cost."""
        return reckon(self.request.prices, trial.usage).total

    def carry_out(
        self, heard: Callable[[Trial], None] | None = None, progress: Progress | None = None
    ) -> str:
        """Runs trials until the strategy has enough or a budget is spent; says which.

        `heard` is told each trial once it is noted. Raises what `run_trials` raises.
        """
        request = self.request
        done = list(self.trials)

        def keep(trial: Trial) -> None:
            self.trials.append(trial)
            self.ledger.put(
                "trial",
                f"{self.id}-{len(self.trials) - 1:04d}",
                str(trial.configuration),
                {**trial.as_json(), **self._cost(trial)},
                parent=self.id,
                seconds=trial.seconds,
            )
            if heard is not None:
                heard(trial)

        budgets = Budgets(request.seconds, request.money, self.cost)
        table = trial_table(self.id)
        with TrialTable(request.open_engine, table, self.id, request.table) as own:
            place = TrialPlace(
                request.open_engine, own, self.scratch, request.landing, request.cold,
                request.reading, request.readers,
            )  # fmt: skip
            _, stopped = run_trials(
                self.chooser, done, self.samples, place, self.pools, keep,
                budgets=budgets, progress=progress,
            )  # fmt: skip
        return stopped

    def _cost(self, trial: Trial) -> dict[str, Any]:
        if not self.request.priced:
            return {}
        prices = self.request.prices
        return {"cost": reckon(prices, trial.usage).as_json(), "currency": prices.currency}

    @property
    def seconds(self) -> float:
        """What all trials took."""
        return sum(trial.seconds for trial in self.trials)

    def end(self, stopped: str, found: Mapping[str, Any] | None = None) -> None:
        """Notes why it stopped, and what was found out by it."""
        state = "open" if stopped in BUDGETS_SPENT else "done"
        told = {**self.document, "state": state, "stopped_because": stopped, **(found or {})}
        summary = f"{len(self.trials):,} trial{'s' * (len(self.trials) != 1)}, {stopped}"
        self.ledger.put("sweep", self.id, summary, told, seconds=self.seconds)


def foresee(
    chooser: Strategy,
    space: Space,
    aim: Aim,
    sample: Volume,
    earlier: Sequence[Trial],
) -> Foreseen | None:
    """What the sweep will about take by earlier sweeps of the same; None where there is none."""
    further = min(FURTHER, chooser.most() - len(chooser.beforehand()))
    try:
        model = fit_model(earlier)
    except RequestError:
        return None
    return by_model(model, chooser.beforehand(), further, list(space.grid()), aim, sample)


def open_sweep(
    ledger: Ledger, session: Session, request: dict[str, Any]
) -> tuple[str, list[Trial]]:
    """The unfinished sweep of the same request with its trials, or a new one.

    One that is being carried out elsewhere is left alone. It is claimed while the session lives.
    """
    # What packings were measured to do is another figure each time.
    wanted = {k: v for k, v in json.loads(json.dumps(request)).items() if k != "packings"}
    for last in reversed(ledger.entries("sweep")):
        same = all(last.document.get(key) == value for key, value in wanted.items())
        if last.document.get("state") == "open" and same and session.claims.claim(last.id):
            return last.id, _trials_of(ledger, last.id)
    sweep_id = entry_id("sweep")
    session.claims.claim(sweep_id)
    ledger.put("sweep", sweep_id, "begun", {**request, "state": "open"})
    return sweep_id, []


def earlier_trials(ledger: Ledger, **wanted: Any) -> list[Trial]:
    """The trials of the newest sweep that ended and whose document says the same of all these."""
    for entry in reversed(ledger.entries("sweep")):
        if "stopped_because" in entry.document and all(
            entry.document.get(key) == value for key, value in wanted.items()
        ):
            return _trials_of(ledger, entry.id)
    return []


def _trials_of(ledger: Ledger, sweep_id: str) -> list[Trial]:
    entries = ledger.entries("trial", parent=sweep_id)
    return [Trial.from_json(one.document) for one in entries]

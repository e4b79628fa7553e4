"""Measuring and deciding: sweep, fit, forecast, plan, and what a plan's figures are drawn from."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from os import PathLike
from pathlib import Path
from typing import Any

from splarn.core.check.limit import BadRows
from splarn.core.ledger import Ledger, entry_id
from splarn.core.prices import Prices
from splarn.core.source.places import Place, key_of
from splarn.core.source.secrets import hide, refuse_secrets
from splarn.core.target.seen import look_at
from splarn.core.tidy import scratch_prefix
from splarn.core.tuning import learning
from splarn.core.tuning import sweep as sweeping
from splarn.core.tuning.clock import parse_deadline
from splarn.core.tuning.columns import Packed, Volume
from splarn.core.tuning.configuration import LEVERS, REGRET, Configuration, Space
from splarn.core.tuning.deciding import alternatives_of, choice_of, starting, sureness
from splarn.core.tuning.doubts import calibrated
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import Forecast
from splarn.core.tuning.forecast import forecast as foretell
from splarn.core.tuning.model import Model
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan
from splarn.core.tuning.possible import rules_of_parts
from splarn.core.tuning.trial import Trial
from splarn.core.tuning.volume import volume_like, volume_of
from splarn.core.tuning.whatif import AS_IT_IS, WhatIf
from splarn.core.units import parse_duration
from splarn.core.work.disk import outside
from splarn.core.work.progress import Progress
from splarn.core.work.words import nearest
from splarn.engines import identity, opener, parse_target, shown
from splarn.library.given import (
    Files,
    LayoutLike,
    Size,
    bad_rows_of,
    depot_of,
    layout_of,
    places,
    prices_of,
    size_of,
)
from splarn.library.where import anywhere, elsewhere, own, pools
from splarn.report.facts import Decided
from splarn.report.telling import decided_by, with_history


def space(*, format: str = "csv", depot: bool = False, **levers: Any) -> Space:
    """The configurations that may be chosen, by the values of each lever.

    Levers are named as in `Configuration`: part_size, packing, workers, transfer_streams,
    load_streams, batch_rows, tier, durability, indexes, route. Each is given one value, a list
    of them, or what people write: "1..8", "4MiB,16MiB". `format` is that of parts; `depot` says
    whether they are shipped to one.
    Raises RequestError for what is no lever or no value of one.
    """
    from splarn.core.errors import RequestError

    unknown = [name for name in levers if name not in LEVERS]
    if unknown:
        hint = nearest(unknown[0], LEVERS)
        raise RequestError(f"{unknown[0]} is no lever{hint}: use {', '.join(LEVERS)}.")
    values: dict[str, list[Any]] = {
        name: list(value) if isinstance(value, list | tuple | range) else [value]
        for name, value in levers.items()
    }
    if depot:
        values.setdefault("transfer_streams", [1, 4])
    made = Space.of(values, format)
    return made.without(rules_of_parts(made, depot))


@dataclass(frozen=True)
class Swept:
    """A sweep that ended: its trials, why it stopped, and what it was about.

    `volume` is that of the source, `packed` what packings were measured to do on a sample of it.
    """

    id: str
    trials: tuple[Trial, ...]
    stopped_because: str
    space: Space
    volume: Volume
    packed: dict[str, Packed]


def sweep(
    files: Files,
    to: str,
    *,
    space: Space | None = None,
    layout: LayoutLike = None,
    sample: Size = "32MiB",
    strategy: str = "adaptive",
    regret: float = REGRET,
    repeats: int = 1,
    seed: int = 1,
    time_budget: float | str | None = None,
    money_budget: float | None = None,
    deadline: str | None = None,
    budget: float | None = None,
    confidence: float = 0.9,
    prices: Prices | str | PathLike[str] | None = None,
    depot: str | PathLike[str] | None = None,
    table: str | None = None,
    cold: bool = False,
    readers: int = 0,
    reading: Sequence[str] = (),
    ledger: str | PathLike[str] | None = None,
    progress: Progress | None = None,
    heard: Callable[[Trial], None] | None = None,
) -> Swept:
    """Loads a sample for real with configurations of a space, until enough is known to decide.

    Each trial loads `sample` bytes into a table of its own in the target `to`, which is removed
    again; indexes of the `table` that it stands for are made there too. An adaptive one stops when
    deciding now is expected to lose less than `regret`, a share of time or cost, under `deadline`,
    `budget` and `confidence`. `heard` is told each trial as it ends. Noted in the ledger of the
    folder `ledger`, where one is given, so that the same call goes on with an interrupted sweep.
    Raises RequestError where nothing can be tried as asked, OutsideError when the target fails.
    """
    found = places(files)
    known = layout_of(layout, found)
    by_way = depot_of(depot)
    chosen = space or _usual_space(known.format, depot is not None)
    request = sweeping.SweepRequest(
        tuple(found),
        known,
        opener(anywhere(to)),
        hide(shown(parse_target(to))),
        identity(to),
        chosen,
        size_of(sample),
        table,
        limits_of(deadline, budget, confidence),
        prices_of(prices, chosen),
        prices is not None,
        strategy,
        regret,
        repeats,
        seed,
        parse_duration(time_budget) if isinstance(time_budget, str) else time_budget,
        money_budget,
        by_way.shown,
        by_way.landing if depot is not None else None,
        cold,
        readers,
        tuple(reading),
    )
    # Where all machines of a cluster see it; else where the system keeps such files.
    shared = own(ledger or ".") if elsewhere() else None
    if shared is not None:
        with outside(f"Making the folder {shared}"):
            shared.mkdir(parents=True, exist_ok=True)
    with (
        tempfile.TemporaryDirectory(prefix=scratch_prefix(), dir=shared) as scratch,
        closing(Ledger(Path(scratch if ledger is None else ledger))) as book,
        closing(request.open_engine().connect()) as keeper,
        pools(reading=found, writing=[shared], into=request.open_engine) as opened,
    ):
        book.check()
        made = sweeping.Sweep(request, keeper, book, opened, Path(scratch))
        made.open()
        stopped = made.carry_out(heard, progress)
        made.end(stopped)
    return Swept(made.id, tuple(made.trials), stopped, made.space, made.volume, dict(made.packed))


def _usual_space(format: str, depot: bool) -> Space:
    return space(format=format, depot=depot)


def trials(ledger: str | PathLike[str] = ".", sweep: str | None = None) -> list[Trial]:
    """The trials of a sweep in the ledger of a folder; of the newest where none is named.

    Raises RequestError where there is none.
    """
    with closing(Ledger(Path(ledger))) as book:
        if sweep is None:
            learning.require_sweep(book)
            sweep = book.entries("sweep")[-1].id
        return learning.trials_of(book, book.find(sweep).id)


def fit(trials: Swept | Sequence[Trial]) -> Model:
    """Fits the laws of all phases to trials, with what they leave open.

    Raises RequestError where they are too few.
    """
    packed = trials.packed if isinstance(trials, Swept) else None
    told = list(trials.trials) if isinstance(trials, Swept) else list(trials)
    return calibrated(fit_model(told, packed), told)


def forecast(
    model: Model,
    space: Space | Configuration | Sequence[Configuration],
    volume: Volume | Size,
    *,
    prices: Prices | str | PathLike[str] | None = None,
    what_if: WhatIf = AS_IT_IS,
) -> list[Forecast]:
    """Time and cost of configurations at a volume, each with a 90 % interval, fastest first.

    A volume in bytes is taken for rows like the trials'. Seconds are of the whole load, its stages
    at work at the same time; `in_turn` of one after the other.
    """
    asked = space if isinstance(space, Space) else None
    if isinstance(space, Space):
        every = list(space.grid())
    else:
        every = [space] if isinstance(space, Configuration) else list(space)
    wanted = volume if isinstance(volume, Volume) else _like_trials(model, size_of(volume))
    told = foretell(model, every, wanted, prices_of(prices, asked), what_if)
    return sorted(told, key=lambda one: one.seconds.median)


def plan(
    files: Files,
    to: str,
    table: str,
    swept: Swept | Model,
    *,
    space: Space | None = None,
    layout: LayoutLike = None,
    volume: Volume | None = None,
    deadline: str | None = None,
    budget: float | None = None,
    confidence: float = 0.9,
    prices: Prices | str | PathLike[str] | None = None,
    depot: str | PathLike[str] | None = None,
    table_mode: str = "create",
    bad_rows: int | str | BadRows = 0,
) -> Plan:
    """Chooses a configuration for a `deadline` ("45m", "by 06:00") or a `budget`, and says why.

    With a deadline the cheapest configuration that keeps it is chosen, with only a budget the
    fastest, with neither the fastest of all; `Plan.meets_limits` says whether any keeps them with
    the `confidence`. `write_plan` puts it into a file, which `splarn run` takes too.
    Raises RequestError where a secret would be written into the plan, OutsideError when the target
    cannot be reached.
    """
    refuse_secrets(to, "target")
    if depot is not None:
        refuse_secrets(str(depot), "depot")
    found = places(files)
    known = layout_of(layout, found)
    model = swept if isinstance(swept, Model) else fit(swept)
    chosen_from = space or (swept.space if isinstance(swept, Swept) else None)
    chosen_from = chosen_from or _usual_space(known.format, depot is not None)
    wanted = volume or _volume(model, found)
    paid = prices_of(prices, chosen_from)
    limits = limits_of(deadline, budget, confidence)
    choice = choice_of(model, chosen_from, wanted, paid, limits)
    chosen = choice.chosen
    return Plan(
        id=entry_id("plan"),
        configuration=chosen.configuration,
        forecast=chosen.as_json(),
        limits=limits,
        meets_limits=choice.meets_limits,
        reasons=(
            *choice.reasons,
            *sureness(model, choice, wanted, paid, limits),
            *([starting(chosen, limits)] if limits.ends is not None else []),
        ),
        sources=tuple(key_of(one.resolve() if isinstance(one, Path) else one) for one in found),
        layout=known,
        target=to,
        table=table,
        table_mode=table_mode,
        bad_rows=bad_rows_of(bad_rows),
        volume=wanted,
        source_bytes=sum(one.stat().st_size for one in found),
        prices=paid,
        sweep=swept.id if isinstance(swept, Swept) else "",
        depot=depot_of(depot).place,
        seen=look_at(opener(to), table),
        alternatives=alternatives_of(model, chosen_from, chosen, wanted, paid),
    )


def decision(
    plan: Plan,
    swept: Swept | Model,
    *,
    space: Space | None = None,
    trials: Sequence[Trial] = (),
    ledger: str | PathLike[str] | None = None,
) -> Decided:
    """What the figures of `splarn.figures` are drawn from: a plan and what it rests on.

    `space` and `trials` are those of the sweep where one is given. Runs of the plan's table that
    the ledger of a folder has are taken in.
    """
    model = swept if isinstance(swept, Model) else fit(swept)
    sweep = swept if isinstance(swept, Swept) else None
    every = space or (sweep.space if sweep else Space.of({}))
    told = decided_by(
        plan, model, every, trials or (sweep.trials if sweep else ()), sweep.packed if sweep else {}
    )
    if ledger is None:
        return told
    with closing(Ledger(Path(ledger))) as book:
        return with_history(told, book, plan, identity(plan.target))


def limits_of(deadline: str | None, budget: float | None, confidence: float) -> Limits:
    """Limits as people write them. Raises RequestError."""
    until = None if deadline is None else parse_deadline(deadline)
    if until is None:
        return Limits(None, budget, confidence)
    return Limits(until.seconds, budget, confidence, until.ends)


def _like_trials(model: Model, size: float) -> Volume:
    tried = model.volumes[-1]
    return volume_like({"bytes": tried.bytes, "rows": tried.rows}, size)


def _volume(model: Model, files: Sequence[Place]) -> Volume:
    tried = model.volumes[-1]
    return volume_of({"bytes": tried.bytes, "rows": tried.rows}, files)

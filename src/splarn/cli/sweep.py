"""`splarn sweep`: trials over the space."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.misuse import if_any
from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    Choices,
    JobFile,
    LayoutFile,
    Paths,
    TargetUrl,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS

if TYPE_CHECKING:
    from splarn.core.prices import Prices
    from splarn.core.target.session import Session
    from splarn.core.tuning.trial import Trial


@takes_levers(LEVERS)
def sweep(
    paths: Paths = None,
    to: TargetUrl = None,
    layout: LayoutFile = None,
    sample: Annotated[
        str | None,
        typer.Option("--sample", metavar="SIZE", help="How much of the source each trial loads."),
    ] = None,
    strategy: Annotated[
        str | None,
        typer.Option(
            "--strategy",
            metavar="NAME",
            help="adaptive: always the trial that promises most; star: one lever at a time from "
            "the middle; grid: every configuration (default: adaptive).",
        ),
    ] = None,
    regret: Annotated[
        str | None,
        typer.Option(
            "--regret",
            metavar="SHARE",
            help="Adaptive: enough is known when deciding now is expected to lose less than this "
            "(default: 2%).",
        ),
    ] = None,
    repeats: Annotated[
        int | None,
        typer.Option("--repeats", metavar="N", min=1, help="Star, grid: trials a configuration."),
    ] = None,
    time: Annotated[
        str | None,
        typer.Option(
            "--time-budget", "--time", metavar="DURATION", help="Begin no trial after so long."
        ),
    ] = None,
    money: Annotated[
        float | None,
        typer.Option(
            "--money-budget", metavar="AMOUNT", min=0, help="Begin no trial once so much is spent."
        ),
    ] = None,
    dry: Annotated[bool, typer.Option("--dry", help="Show what would be tried, and stop.")] = False,
    choices: Choices = NO_CHOICES,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Load a sample for real with configurations of the space, until enough is known to decide.

    Example: [bold]splarn sweep --sample 32MiB --load-streams 1..8 --batch-rows 10k,100k[/bold]

    Trials use a table of their own, which is removed again. An interrupted sweep goes on where it
    stopped when the same command is given again. One that fails is kept and shown, and tells
    nothing of its configuration.
    """
    import tempfile
    from contextlib import closing
    from pathlib import Path

    from splarn.cli.context import Context
    from splarn.cli.costs import show_tiers
    from splarn.cli.learned import layout_id, say_volume, volume_of
    from splarn.cli.load import say_restored
    from splarn.cli.trials import show_decision, show_design, show_trials
    from splarn.core.errors import RequestError
    from splarn.core.prices import reckon
    from splarn.core.source.secrets import hide
    from splarn.core.target.session import check_levers
    from splarn.core.tuning.laws import Volume
    from splarn.core.tuning.posterior import Aim
    from splarn.core.tuning.runner import (
        Budgets,
        TrialPlace,
        remove_left,
        run_trials,
        trial_table,
    )
    from splarn.core.tuning.sample import take_sample
    from splarn.core.tuning.strategy import strategy_by
    from splarn.core.units import parse_duration, parse_share, parse_size, plural, show_size
    from splarn.core.work.machine import describe_machine
    from splarn.core.work.pool import Pools, workers_for
    from splarn.engines import identity, opener, shown
    from splarn.engines import parse_target as parse

    context = Context(job, as_json)
    out = context.out
    settings = context.job.sweep
    url = context.target(to)
    open_engine = opener(url)
    say_restored(out, open_engine)
    files = context.paths(paths)
    chosen_layout = context.layout(layout, files)
    space = context.space(choices, chosen_layout.format)
    for configuration in space.grid():
        check_levers(configuration.load_levers, open_engine())
    # What would only be found wrong after the first trials.
    limits = context.limits(None, None, None)
    context.bad_rows(None, None)
    name = context.setting("--strategy", _strategy, strategy, "sweep.strategy")
    wanted = context.setting("--regret", parse_share, regret, "sweep.regret")
    money = settings.money if money is None else money
    prices = context.prices()
    if money is not None and not context.job.prices:
        raise RequestError(
            "A money budget needs prices: name a price list with `prices` in the job file."
        )
    sample_size = context.setting("--sample", parse_size, sample, "sweep.sample")
    limit = context.setting("--time-budget", if_any(parse_duration), time, "sweep.time")
    context.check_ledger()
    keeper = open_engine().connect()
    _check_tiers(keeper, space.values["tier"], prices if context.job.prices else None)
    with (
        closing(keeper),
        Pools() as pools,
        context.ledger() as ledger,
        tempfile.TemporaryDirectory(prefix="splarn-sweep-") as scratch,
    ):
        taken = take_sample(
            files,
            chosen_layout,
            sample_size,
            Path(scratch) / "sample",
            pools.threads(workers_for(sum(file.stat().st_size for file in files))),
        )
        volume = volume_of({"bytes": taken.bytes, "rows": taken.rows}, files, None)
        chooser = strategy_by(
            name,
            space,
            Aim(volume, limits, prices),
            Volume(taken.bytes, taken.rows),
            repeats or settings.repeats,
            settings.seed,
            wanted,
        )
        if dry:
            show_design(out, chooser, name, taken.bytes)
            return
        request = {
            "space": space.as_json(),
            "strategy": name,
            "regret": wanted,
            "repeats": repeats or settings.repeats,
            "seed": settings.seed,
            "target": hide(shown(parse(url))),
            "target_id": identity(url),
            "layout": layout_id(chosen_layout),
            "layout_name": chosen_layout.name,
            "machine": describe_machine(),
            "format": chosen_layout.format,
            "source": {"paths": [str(path) for path in files]},
            "sample": {"bytes": taken.bytes, "rows": taken.rows},
        }
        sweep_id, done = _open_sweep(ledger, keeper, request)
        removed = remove_left(open_engine, keeper)
        if removed:
            out.note(f"Removed what sweeps that were killed had left: {', '.join(removed)}.")
        if done:
            out.note(f"Going on with the sweep {sweep_id}: {plural(len(done), 'trial')} are done.")
        say_volume(out, volume)
        out.say(
            f"Sweep {sweep_id}, {name}: {plural(space.size, 'configuration')}, at most "
            f"{plural(chooser.most(), 'trial')} of {show_size(taken.bytes)} "
            f"({plural(round(taken.rows), 'row')}) each, to decide about {show_size(volume.bytes)}."
        )

        def keep(trial: Trial) -> None:
            number = len(ledger.entries("trial", parent=sweep_id))
            ledger.put(
                "trial",
                f"{sweep_id}-{number:04d}",
                str(trial.configuration),
                {**trial.as_json(), **context.priced(lambda _: trial.usage)},
                parent=sweep_id,
                seconds=trial.seconds,
            )

        trials, stopped = run_trials(
            chooser,
            done,
            taken,
            TrialPlace(
                open_engine,
                trial_table(sweep_id),
                Path(scratch),
                context.job.target.table,
                sweep_id,
            ),
            pools,
            keep,
            budgets=Budgets(limit, money, lambda trial: reckon(prices, trial.usage).total),
            progress=out.progress(),
        )
        request["state"] = "open" if stopped in ("time spent", "money spent") else "done"
        request["stopped_because"] = stopped
        summary = f"{plural(len(trials), 'trial')}, {stopped}"
        total = sum(trial.seconds for trial in trials)
        ledger.put("sweep", sweep_id, summary, request, seconds=total)
    show_trials(out, trials, stopped)
    tiers = show_tiers(out, trials, prices)
    out.document(
        {
            "sweep_id": sweep_id,
            "strategy": name,
            **show_decision(out, chooser, trials, volume.bytes),
            "trials": [trial.as_json() for trial in trials],
            "stopped_because": stopped,
            "tiers": tiers,
        }
    )


def _strategy(name: str) -> str:
    from splarn.core.errors import RequestError
    from splarn.core.tuning.configuration import STRATEGIES

    if name not in STRATEGIES:
        raise RequestError(f"{name!r} is not known; use {', '.join(STRATEGIES)}.")
    return name


def _check_tiers(session: Session, wanted: tuple[str, ...], prices: Prices | None) -> None:
    """Raises RequestError for a tier that the target or the price list lacks."""
    from splarn.core.errors import RequestError
    from splarn.core.load.sizing import size_of
    from splarn.core.prices.pricelist import tier_of

    size = size_of(session)
    for tier in wanted:
        if size is not None and tier not in size.tiers:
            raise RequestError(
                f"The target has no tier {tier}: the space may use {', '.join(size.tiers)}."
            )
        if prices is not None:
            tier_of(prices, tier)


def _open_sweep(ledger: Any, session: Session, request: dict[str, Any]) -> tuple[str, list[Trial]]:
    """The unfinished sweep of the same request with its trials, or a new one.

    One that is being carried out elsewhere is left alone. It is claimed while the session lives.
    """
    import json
    import secrets
    from datetime import UTC, datetime

    from splarn.core.tuning.trial import Trial

    wanted = json.loads(json.dumps(request))
    last = ledger.last("sweep")
    if last is not None and last.document.get("state") == "open":
        same = all(last.document.get(key) == value for key, value in wanted.items())
        if same and session.claims.claim(last.id):
            entries = ledger.entries("trial", parent=last.id)
            return last.id, [Trial.from_json(entry.document) for entry in entries]
    sweep_id = f"sweep-{datetime.now(UTC):%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"
    session.claims.claim(sweep_id)
    ledger.put("sweep", sweep_id, "begun", {**request, "state": "open"})
    return sweep_id, []

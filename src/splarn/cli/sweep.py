"""`splarn sweep`: trials over the space."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.misuse import if_any
from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    Choices,
    DepotPlace,
    JobFile,
    LayoutFile,
    Paths,
    Settings,
    TargetUrl,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS

if TYPE_CHECKING:
    from splarn.core.errors import RequestError
    from splarn.core.prices import Prices
    from splarn.core.target.session import Session
    from splarn.core.tuning.configuration import Space
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
    loads: Annotated[
        int | None,
        typer.Option(
            "--loads", metavar="N", min=1, help="How often such a load will come (default: once)."
        ),
    ] = None,
    depot: DepotPlace = None,
    readers: Annotated[
        int | None,
        typer.Option(
            "--readers", metavar="N", min=0, help="So many sessions read beside each trial."
        ),
    ] = None,
    reading: Annotated[
        list[str] | None,
        typer.Option(
            "--reading",
            metavar="SQL",
            help="What they read; {table} is the one that is being loaded. May be given again.",
        ),
    ] = None,
    cold: Annotated[
        bool, typer.Option("--cold", help="Read the sample from the disk anew for each trial.")
    ] = False,
    dry: Annotated[bool, typer.Option("--dry", help="Show what would be tried, and stop.")] = False,
    choices: Choices = NO_CHOICES,
    settings: Settings = None,
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
    from dataclasses import asdict
    from pathlib import Path
    from time import perf_counter

    from splarn.cli.context import Context
    from splarn.cli.costs import show_tiers
    from splarn.cli.learned import layout_id, say_volume, volume_of
    from splarn.cli.load import say_restored
    from splarn.cli.sweeping import (
        Watched,
        earlier_trials,
        foresee,
        open_sweep,
        require_enough,
        say_caches,
        say_foreseen,
        say_left_out,
    )
    from splarn.cli.trials import (
        say_flow,
        show_decision,
        show_design,
        show_nearness,
        show_readers,
        show_trials,
        trial_document,
    )
    from splarn.core.prices import reckon
    from splarn.core.source.secrets import filled, hide
    from splarn.core.tidy import scratch_prefix
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.foreseen import FURTHER, by_first
    from splarn.core.tuning.packings import measured
    from splarn.core.tuning.possible import rules_of_target, rules_of_volume
    from splarn.core.tuning.posterior import Aim
    from splarn.core.tuning.readers import require_reading
    from splarn.core.tuning.runner import (
        Budgets,
        TrialPlace,
        chosen_from,
        run_trials,
    )
    from splarn.core.tuning.sample import Sample, Samples, take_sample
    from splarn.core.tuning.strategy import largest, strategy_by
    from splarn.core.tuning.trial_table import (
        TrialTable,
        left_tables,
        remove_table,
        trial_table,
    )
    from splarn.core.units import parse_duration, parse_share, parse_size, plural, show_size
    from splarn.core.work.machine import describe_machine
    from splarn.core.work.pools import Pools, workers_for
    from splarn.depots.landing import DepotLanding
    from splarn.engines import identity, opener, shown
    from splarn.engines import parse_target as parse

    context = Context(job, as_json, settings)
    out = context.out
    usual = context.job.sweep
    url = context.target(to)
    open_engine = opener(url)
    say_restored(out, open_engine)
    files = context.paths(paths)
    chosen_layout = context.layout(layout, files)
    place = context.depot(depot)
    space = context.space(choices, chosen_layout.format, place is not None)
    # What would only be found wrong after the first trials.
    limits = context.limits(None, None, None)
    context.bad_rows(None, None)
    name = context.setting("--strategy", _strategy, strategy, "sweep.strategy")
    wanted = context.setting("--regret", parse_share, regret, "sweep.regret")
    money = usual.money if money is None else money
    prices = context.prices(space.values["tier"])
    if money is not None and not context.job.prices:
        raise _no_prices()
    sample_size = context.setting("--sample", parse_size, sample, "sweep.sample")
    limit = context.setting("--time-budget", if_any(parse_duration), time, "sweep.time")
    often = loads or usual.loads
    statements = tuple(reading or usual.reading)
    crew = usual.readers if readers is None else readers
    if bool(crew) != bool(statements):
        raise _half_a_crew(crew)

    def landing(folder: str) -> DepotLanding:
        assert place is not None, "asked for only where there is one"
        return DepotLanding(filled(place, "The depot"), folder)

    shown_depot = context.way(depot)
    context.check_ledger()
    keeper = open_engine().connect()
    with (
        closing(keeper),
        Pools() as pools,
        context.ledger() as ledger,
        tempfile.TemporaryDirectory(prefix=scratch_prefix()) as scratch,
    ):
        for statement in statements:
            require_reading(statement)
            if "{table}" not in statement:
                # What the target refuses is found before the first trial.
                keeper.read(statement)
        space = space.without(rules_of_target(space, open_engine(), _tiers(keeper)))
        _check_prices(space, prices if context.job.prices else None)
        cores = pools.threads(workers_for(sum(file.stat().st_size for file in files)))

        def take(size: int) -> Sample:
            folder = Path(scratch) / f"sample-{size}"
            return take_sample(files, chosen_layout, size, folder, cores)

        samples = Samples(take(sample_size), take)
        taken = samples.sample
        volume = volume_of({"bytes": taken.bytes, "rows": taken.rows}, files, None)
        tried = Volume(taken.bytes, taken.rows)
        most = largest(tried, volume) if name == "adaptive" else tried
        space = space.without(rules_of_volume(space, most, volume))
        aim = Aim(volume, limits, prices)
        repeated = repeats or usual.repeats
        text = chosen_layout.format != "parquet"
        packed = measured(files, chosen_layout.format, space.values["packing"]) if text else {}
        chooser = strategy_by(name, space, aim, tried, repeated, usual.seed, wanted, packed)
        left_out = say_left_out(out, space)
        target_id, layout_key = identity(url), layout_id(chosen_layout)
        known = earlier_trials(
            ledger, target_id=target_id, layout=layout_key, depot=shown_depot, readers=crew
        )
        foreseen = foresee(chooser, space, aim, tried, known)
        if foreseen is not None:
            say_foreseen(out, foreseen, often, prices.currency, "the last sweep of this")
            # One that goes on has its first trials already, and a listed one says nothing early.
            opened = any(one.document.get("state") == "open" for one in ledger.entries("sweep"))
            if name == "adaptive" and not opened:
                require_enough(foreseen, limit, money)
        if dry:
            show_design(out, chooser, name, taken.bytes, foreseen, left_out)
            return
        request = {
            "space": space.as_json(),
            "strategy": name,
            "regret": wanted,
            "repeats": repeated,
            "seed": usual.seed,
            "target": hide(shown(parse(url))),
            "target_id": target_id,
            "depot": shown_depot,
            "cold": cold,
            "readers": crew,
            "reading": list(statements),
            "engine": keeper.version(),
            "layout": layout_key,
            "layout_name": chosen_layout.name,
            "machine": describe_machine(),
            "format": chosen_layout.format,
            "source": {"paths": [str(path) for path in files]},
            "sample": {"bytes": taken.bytes, "rows": taken.rows},
            "packings": {name: asdict(one) for name, one in packed.items()},
        }
        sweep_id, done = open_sweep(ledger, keeper, request)
        left = left_tables(keeper)
        for note in left:
            remove_table(open_engine, note, None if place is None else landing)
        if left:
            tables = ", ".join(note.table for note in left)
            out.note(f"Removed what sweeps that were killed had left: {tables}.")
        if done:
            out.note(f"Going on with the sweep {sweep_id}: {plural(len(done), 'trial')} are done.")
        say_volume(out, volume)
        out.say(
            f"Sweep {sweep_id}, {name}: {plural(space.size, 'configuration')}, at most "
            f"{plural(chooser.most(), 'trial')} of {show_size(taken.bytes)} "
            f"({plural(round(taken.rows), 'row')}) each, to decide about {show_size(volume.bytes)}."
        )
        progress = out.progress()
        begun = perf_counter()

        def cost_of(trial: Trial) -> float:
            return reckon(prices, trial.usage).total

        watched = Watched(progress, chooser, wanted, cost_of, prices.currency, money, limit)
        trials = list(done)

        def keep(trial: Trial) -> None:
            trials.append(trial)
            ledger.put(
                "trial",
                f"{sweep_id}-{len(trials) - 1:04d}",
                str(trial.configuration),
                {**trial.as_json(), **context.priced(lambda _: trial.usage)},
                parent=sweep_id,
                seconds=trial.seconds,
            )
            told = [one for one in trials if one.tells]
            if foreseen is None and not trial.failure and (len(trials) == 1 or told == [trial]):
                start = len(chooser.beforehand())
                further = min(FURTHER, chooser.most() - start)
                by = by_first([trial], start, further, aim)
                if told:
                    say_foreseen(out, by, often, prices.currency, "the first trial")
                if name == "adaptive":
                    # A warm-up takes longer than what follows.
                    require_enough(by, limit, money, 1.0 if told else 0.5)
            watched.tell(chosen_from(trials))

        with TrialTable(
            open_engine, trial_table(sweep_id), sweep_id, context.job.target.table
        ) as trials_own:
            _, stopped = run_trials(
                chooser,
                done,
                samples,
                TrialPlace(
                    open_engine,
                    trials_own,
                    Path(scratch),
                    None if place is None else landing,
                    cold,
                    statements,
                    crew,
                ),
                pools,
                keep,
                budgets=Budgets(limit, money, cost_of),
                progress=progress,
            )
        request["state"] = "open" if stopped in ("time spent", "money spent") else "done"
        request["stopped_because"] = stopped
        summary = f"{plural(len(trials), 'trial')}, {stopped}"
        total = sum(trial.seconds for trial in trials)
        decision = show_trials(out, trials, stopped)
        decision |= say_flow(out, trials)
        tiers = show_tiers(out, trials, prices)
        decision |= show_decision(out, chooser, chosen_from(trials), volume.bytes, wanted)
        decision |= show_nearness(out, trials, ledger.last("probe"))
        if crew:
            decision |= show_readers(out, trials, crew)
        say_caches(out, cold, taken.bytes)
        ledger.put("sweep", sweep_id, summary, {**request, **decision}, seconds=total)
    out.document(
        {
            "sweep_id": sweep_id,
            "strategy": name,
            "depot": shown_depot or None,
            **decision,
            "trials": [trial_document(trial, context) for trial in trials],
            "stopped_because": stopped,
            "trial_seconds": total,
            "elapsed": perf_counter() - begun,
            "left_out": left_out,
            "tiers": tiers,
        }
    )


def _strategy(name: str) -> str:
    from splarn.core.errors import RequestError
    from splarn.core.tuning.configuration import STRATEGIES

    if name not in STRATEGIES:
        raise RequestError(f"{name!r} is not known; use {', '.join(STRATEGIES)}.")
    return name


def _half_a_crew(crew: int) -> RequestError:
    from splarn.core.errors import RequestError

    wanted = "--reading with a statement" if crew else "--readers with how many sessions"
    return RequestError(f"Reading beside trials needs both: give {wanted} as well.")


def _no_prices() -> RequestError:
    from splarn.core.errors import RequestError

    return RequestError(
        "A money budget needs prices: name a price list with `prices` in the job file."
    )


def _tiers(session: Session) -> tuple[str, ...] | None:
    from splarn.core.load.sizing import size_of

    size = size_of(session)
    return None if size is None else size.tiers


def _check_prices(space: Space, prices: Prices | None) -> None:
    """Raises RequestError for a tier that the price list lacks."""
    from splarn.core.prices.pricelist import tier_of

    if prices is not None:
        for tier in space.values["tier"]:
            tier_of(prices, tier)

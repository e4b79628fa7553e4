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
    OnCluster,
    Paths,
    PerMachine,
    Settings,
    TargetUrl,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS

if TYPE_CHECKING:
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
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
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
    from pathlib import Path
    from time import perf_counter

    from splarn.cli.context import Context
    from splarn.cli.costs import show_tiers
    from splarn.cli.learned import say_volume
    from splarn.cli.load import say_restored
    from splarn.cli.machines import say_fixed
    from splarn.cli.sweeping import (
        Watched,
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
    from splarn.core.source.secrets import filled, hide
    from splarn.core.tidy import scratch_prefix
    from splarn.core.tuning.foreseen import FURTHER, by_first
    from splarn.core.tuning.runner import chosen_from
    from splarn.core.tuning.sweep import Sweep, SweepRequest
    from splarn.core.units import parse_duration, parse_share, parse_size, plural, show_size
    from splarn.depots.landing import DepotLanding
    from splarn.engines import identity, opener, shown
    from splarn.engines import parse_target as parse

    context = Context(job, as_json, settings, cluster, per_machine)
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

    def landing(folder: str) -> DepotLanding:
        assert place is not None, "asked for only where there is one"
        return DepotLanding(filled(place, "The depot"), folder)

    request = SweepRequest(
        tuple(files),
        chosen_layout,
        open_engine,
        hide(shown(parse(url))),
        identity(url),
        space,
        context.setting("--sample", parse_size, sample, "sweep.sample"),
        context.job.target.table,
        limits,
        context.prices(space.values["tier"]),
        context.job.prices is not None,
        context.setting("--strategy", _strategy, strategy, "sweep.strategy"),
        context.setting("--regret", parse_share, regret, "sweep.regret"),
        repeats or usual.repeats,
        usual.seed,
        context.setting("--time-budget", if_any(parse_duration), time, "sweep.time"),
        usual.money if money is None else money,
        context.way(depot),
        None if place is None else landing,
        cold,
        usual.readers if readers is None else readers,
        tuple(reading or usual.reading),
    )
    often = loads or usual.loads
    context.check_ledger()
    # Where all machines of a cluster see it; else where the system keeps such files.
    shared = None if context.cluster is None else context.own(context.job.folder)
    keeper = open_engine().connect()
    with (
        closing(keeper),
        context.pools(reading=files, writing=[shared], into=open_engine) as pools,
        context.ledger() as ledger,
        tempfile.TemporaryDirectory(prefix=scratch_prefix(), dir=shared) as scratch,
    ):
        with out.working("taking a sample"):
            made = Sweep(request, keeper, ledger, pools, Path(scratch))
        chooser, name, prices = made.chooser, request.strategy, request.prices
        left_out, foreseen = say_left_out(out, made.space), made.foreseen
        if foreseen is not None:
            say_foreseen(out, foreseen, often, prices.currency, "the last sweep of this")
            # One that goes on has its first trials already, and a listed one says nothing early.
            opened = any(one.document.get("state") == "open" for one in ledger.entries("sweep"))
            if name == "adaptive" and not opened:
                require_enough(foreseen, request.seconds, request.money)
        if dry:
            show_design(out, chooser, name, made.taken.bytes, foreseen, left_out)
            return
        left = made.open()
        if left:
            out.note(f"Removed what sweeps that were killed had left: {', '.join(left)}.")
        if made.trials:
            out.note(
                f"Going on with the sweep {made.id}: {plural(len(made.trials), 'trial')} are done."
            )
        say_volume(out, made.volume)
        taken = made.taken
        out.say(
            f"Sweep {made.id}, {name}: {plural(made.space.size, 'configuration')}, at most "
            f"{plural(chooser.most(), 'trial')} of {show_size(taken.bytes)} "
            f"({plural(round(taken.rows), 'row')}) each, to decide about "
            f"{show_size(made.volume.bytes)}."
        )
        progress = out.progress()
        begun = perf_counter()
        watched = Watched(
            progress, chooser, request.regret, made.cost, prices.currency, request.money,
            request.seconds,
        )  # fmt: skip

        def heard(trial: Trial) -> None:
            trials = made.trials
            told = [one for one in trials if one.tells]
            if foreseen is None and not trial.failure and (len(trials) == 1 or told == [trial]):
                start = len(chooser.beforehand())
                further = min(FURTHER, chooser.most() - start)
                by = by_first([trial], start, further, made.aim)
                if told:
                    say_foreseen(out, by, often, prices.currency, "the first trial")
                if name == "adaptive":
                    # A warm-up takes longer than what follows.
                    require_enough(by, request.seconds, request.money, 1.0 if told else 0.5)
            watched.tell(chosen_from(trials))

        stopped = made.carry_out(heard, progress)
        trials = made.trials
        decision = show_trials(out, trials, stopped)
        decision |= say_flow(out, trials)
        tiers = show_tiers(out, trials, prices)
        decision |= show_decision(
            out, chooser, chosen_from(trials), made.volume.bytes, request.regret
        )
        decision |= show_nearness(out, trials, ledger.last("probe"), pools.described)
        if request.readers:
            decision |= show_readers(out, trials, request.readers)
        say_caches(out, cold, taken.bytes)
        if pools.away is not None:
            decision["cluster"] = say_fixed(out, dict(pools.away.fixed()))
        made.end(stopped, decision)
    out.document(
        {
            "sweep_id": made.id,
            "strategy": name,
            "depot": request.depot or None,
            **decision,
            "trials": [trial_document(trial, context) for trial in trials],
            "stopped_because": stopped,
            "trial_seconds": made.seconds,
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

"""`splarn plan`: the configuration to use."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    AskedMonths,
    AskedQuestions,
    Choices,
    DepotPlace,
    JobFile,
    LayoutFile,
    Paths,
    Settings,
    SweepId,
    TableName,
    TargetUrl,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS

if TYPE_CHECKING:
    from splarn.core.tuning.configuration import Configuration, Space
    from splarn.core.tuning.keeping import KeptChoice
    from splarn.core.tuning.learning import Learned


@takes_levers(LEVERS)
def plan(
    paths: Paths = None,
    deadline: Annotated[
        str | None,
        typer.Option(
            "--deadline",
            metavar="WHEN",
            help="It must end within 45m, 'by 06:00' or 'between 01:00 and 05:00'.",
        ),
    ] = None,
    budget: Annotated[
        float | None,
        typer.Option("--budget", metavar="MONEY", min=0, help="The load must cost no more."),
    ] = None,
    confidence: Annotated[
        str | None,
        typer.Option("--confidence", metavar="P", help="Chance of keeping both, as 0.9."),
    ] = None,
    most_streams: Annotated[
        int | None,
        typer.Option("--most-streams", metavar="N", min=1, help="No more load streams than this."),
    ] = None,
    leave: Annotated[
        str | None,
        typer.Option(
            "--leave", metavar="SHARE", help="Leave so many of the target's slots to others."
        ),
    ] = None,
    growth: Annotated[
        str | None,
        typer.Option(
            "--growth",
            metavar="SHARE",
            help="What comes again grows by so much a month, as 3%: say how long that goes well.",
        ),
    ] = None,
    increment: Annotated[
        str | None,
        typer.Option(
            "--increment",
            metavar="SIZE",
            help="It comes again as increments of this size, as 2GB: hold them against it whole.",
        ),
    ] = None,
    question: AskedQuestions = None,
    months: AskedMonths = None,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Write the plan although it misses its limits.")
    ] = False,
    out_file: Annotated[
        Path, typer.Option("--out", metavar="FILE", help="Where the plan is written.")
    ] = Path("plan.json"),
    to: TargetUrl = None,
    table: TableName = None,
    layout: LayoutFile = None,
    depot: DepotPlace = None,
    sweep: SweepId = None,
    choices: Choices = NO_CHOICES,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Choose the configuration for a deadline or a budget, say why, and write the plan.

    Example: [bold]splarn plan --deadline 'by 06:00' --confidence 0.9[/bold]

    With a deadline the cheapest configuration that keeps it is chosen, with only a budget the
    fastest, with neither the fastest of all. One that misses its limits is not written, unless with
    --anyway. Into a lake, questions choose the layout of files: what costs least with all that is
    asked later.
    """
    from dataclasses import replace

    from splarn.cli.coming_again import coming_again
    from splarn.cli.context import Context
    from splarn.cli.kinds import describe_kinds, forecasts_by_table, kinds_of, say_kinds
    from splarn.cli.learned import (
        learn,
        require_sweep,
        say_learned,
        say_volume,
        show_forecasts,
    )
    from splarn.cli.planned import seen_of, templates_of
    from splarn.cli.scans import asked_by, choices_asked, say_shapes
    from splarn.core.ledger import entry_id
    from splarn.core.source.places import is_url, key_of, place
    from splarn.core.source.secrets import refuse_secrets
    from splarn.core.tuning.deciding import (
        alternatives_of,
        choice_of,
        joined_first,
        starting,
        sureness,
    )
    from splarn.core.tuning.keeping import why_so_kept
    from splarn.core.tuning.plan_file import Plan, Templates, write_plan
    from splarn.core.tuning.volume import volume_of
    from splarn.core.units import show_duration
    from splarn.engines import opener

    context = Context(job, as_json, settings)
    out = context.out
    limits = context.limits(deadline, budget, confidence)
    require_sweep(context)
    files = context.paths(paths)
    chosen_layout = context.layout(layout, files)
    target = context.target(to)
    refuse_secrets(target, "target")
    into = context.table(table, chosen_layout.name)
    seen = seen_of(context, target, into)
    stands = context.layout_file(layout)
    named = context.depot(depot)
    if named is not None:
        refuse_secrets(named, "depot")
    space = context.space(choices, chosen_layout.format, named is not None)
    way = context.way(depot)
    packings = space.values["packing"]
    learned = learn(context, sweep, target, chosen_layout, files, way, packings, seen.engine)
    prices = context.prices(space.values["tier"])
    kinds = () if paths else kinds_of(context, into)
    every = [*files, *(place(path) for kind in kinds for path in kind.sources)]
    wanted = volume_of(learned.sweep.document["sample"], every, bool(kinds))
    space = _within(space, learned, most_streams, leave)
    asked = asked_by(context, question, None, months)
    shapes: list[KeptChoice] = []
    if asked is not None and opener(target)().gathers:
        shapes = choices_asked(
            context, asked, files, chosen_layout, space, learned, wanted, prices, limits
        )
        choice, space = shapes[0].choice, shapes[0].space
    else:
        with out.working("forecasting"):
            choice = choice_of(learned.model, space, wanted, prices, limits, learned.joining)
    chosen = choice.chosen
    joining = learned.joining if chosen.configuration.machines > 1 else 0.0
    again = coming_again(learned.model, choice, wanted, prices, limits, increment, growth)
    reasons = (
        *([why_so_kept(shapes, asked.months, prices.currency)] if asked and shapes else []),
        *choice.reasons,
        *sureness(learned.model, choice, wanted, prices, limits),
        *again.reasons,
        *([joined_first(joining)] if joining else []),
        *([starting(chosen, limits, joining)] if limits.ends is not None else []),
    )
    made = Plan(
        id=entry_id("plan"),
        configuration=chosen.configuration,
        forecast=chosen.as_json(),
        limits=limits,
        meets_limits=choice.meets_limits,
        reasons=reasons,
        sources=tuple(key_of(path.resolve() if isinstance(path, Path) else path) for path in files),
        layout=chosen_layout,
        target=target,
        table=into,
        table_mode=context.job.target.table_mode,
        bad_rows=context.bad_rows(None, None),
        volume=wanted,
        source_bytes=sum(path.stat().st_size for path in files),
        prices=prices,
        sweep=learned.sweep.id,
        depot="" if named is None else named if is_url(named) else str(Path(named).resolve()),
        layout_file="" if stands is None else str(stands.resolve()),
        seen=seen,
        parameters=context.parameters,
        templates=templates_of(context, paths, table, depot) if context.parameters else Templates(),
        alternatives=alternatives_of(learned.model, space, chosen, wanted, prices),
        kinds=kinds,
    )
    sample = learned.sweep.document["sample"]
    made = replace(made, tables=forecasts_by_table(made, learned.model, sample, Path()))
    told = describe_kinds(made)
    written = choice.meets_limits or anyway
    if written:
        write_plan(made, out_file)
    document = {
        "plan_id": made.id,
        "configuration": chosen.configuration.as_json(),
        "seconds": chosen.seconds.as_json(),
        "cost": chosen.cost.as_json(),
        "cost_items": chosen.costs,
        "currency": prices.currency,
        "phases": chosen.phases,
        "binding_phase": chosen.binding_phase,
        "meets_limits": choice.meets_limits,
        "chance": choice.chance,
        "reasons": list(reasons),
        "runner_up": choice.runner_up.as_json() if choice.runner_up else None,
        "plan": str(out_file) if written else None,
        **again.document,
        **({"shapes": [one.as_json() for one in shapes]} if shapes else {}),
        **({"kinds": told} if told else {}),
    }
    if written:
        with context.ledger() as ledger:
            expected = f"forecast {show_duration(chosen.seconds.median)}"
            summary = f"{chosen.configuration}: {expected}"
            if not choice.meets_limits:
                summary += ", misses its limits"
            ledger.put("plan", made.id, summary, document)
    (out.head if choice.meets_limits else out.bad)(str(chosen.configuration))
    for reason in reasons:
        out.say(reason)
    say_learned(out, learned, prices)
    if asked and shapes:
        say_shapes(context, shapes, asked, prices)
    show_forecasts(out, choice.ranked[:5], prices.currency, chosen)
    say_volume(out, wanted)
    say_kinds(out, told)
    if choice.meets_limits:
        out.say(f"Wrote {out_file}; `splarn run {out_file}` carries it out.")
    elif anyway:
        out.note(f"Wrote {out_file}, which does not keep the limits.")
    else:
        out.note(
            "No plan was written, since none keeps the limits: allow more time or money, widen the "
            "space and sweep again, or write this one with --anyway."
        )
    out.document(document)
    return 0 if choice.meets_limits else 1


def _within(space: Space, learned: Learned, most: int | None, leave: str | None) -> Space:
    """The space without configurations that take more of the target than they may."""
    from splarn.cli.misuse import read
    from splarn.core.errors import RequestError
    from splarn.core.tuning.configuration import Rule
    from splarn.core.units import parse_share, tier_units

    if most is not None:
        reason = f"more than {most} load streams"
        space = space.without(
            [Rule(reason, lambda one: one.load_streams > most, ("load_streams",))]
        )
    if leave is not None:
        share = read("--leave", parse_share, leave)
        slots = learned.model.facts.slots
        if slots is None:
            raise RequestError(
                "--leave: trials with one tier show no slots of which a share could be left; give "
                "--most-streams."
            )

        def greedy(one: Configuration) -> bool:
            units = max(tier_units(one.tier), 1)
            return one.load_streams > (1 - share) * units * slots

        space = space.without(
            [Rule(f"less than {share:.0%} left", greedy, ("load_streams", "tier"))]
        )
    return space

"""`splarn plan`: the configuration to use."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    Choices,
    DepotPlace,
    JobFile,
    LayoutFile,
    Paths,
    SweepId,
    TableName,
    TargetUrl,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS


@takes_levers(LEVERS)
def plan(
    paths: Paths = None,
    deadline: Annotated[
        str | None,
        typer.Option("--deadline", metavar="DURATION", help="The load must end within this."),
    ] = None,
    budget: Annotated[
        float | None,
        typer.Option("--budget", metavar="MONEY", min=0, help="The load must cost no more."),
    ] = None,
    confidence: Annotated[
        str | None,
        typer.Option("--confidence", metavar="P", help="Chance of keeping both, as 0.9."),
    ] = None,
    out_file: Annotated[
        Path, typer.Option("--out", metavar="FILE", help="Where the plan is written.")
    ] = Path("plan.json"),
    to: TargetUrl = None,
    table: TableName = None,
    layout: LayoutFile = None,
    depot: DepotPlace = None,
    sweep: SweepId = None,
    choices: Choices = NO_CHOICES,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Choose the configuration for a deadline or a budget, say why, and write the plan.

    Example: [bold]splarn plan --deadline 45m --confidence 0.9[/bold]

    With a deadline the cheapest configuration that keeps it is chosen, with only a budget the
    fastest, with neither the fastest of all.
    """
    import secrets
    from datetime import UTC, datetime

    from splarn.cli.context import Context
    from splarn.cli.learned import learn, require_sweep, say_volume, show_forecasts, volume_of
    from splarn.core.source.places import is_url, key_of
    from splarn.core.tuning.forecast import forecast as predict
    from splarn.core.tuning.plan import Plan, choose, write_plan
    from splarn.core.units import show_duration
    from splarn.engines import parse_target

    context = Context(job, as_json)
    out = context.out
    limits = context.limits(deadline, budget, confidence)
    require_sweep(context)
    files = context.paths(paths)
    chosen_layout = context.layout(layout, files)
    target = context.target(to)
    keep_secrets_out(target)
    parse_target(target)
    named = context.depot(depot)
    if named is not None:
        keep_secrets_out(named, "depot")
    model, entry = learn(context, sweep, target, chosen_layout, files, context.shown_depot(named))
    space = context.space(choices, chosen_layout.format, named is not None)
    prices = context.prices(space.values["tier"])
    wanted = volume_of(entry.document["sample"], files, None)
    forecasts = predict(model, list(space.grid()), wanted, prices)
    choice = choose(forecasts, limits, prices.currency)
    chosen = choice.chosen
    made = Plan(
        id=f"plan-{datetime.now(UTC):%Y%m%d-%H%M%S}-{secrets.token_hex(2)}",
        configuration=chosen.configuration,
        forecast=chosen.as_json(),
        limits=limits,
        meets_limits=choice.meets_limits,
        reasons=choice.reasons,
        sources=tuple(key_of(path.resolve() if isinstance(path, Path) else path) for path in files),
        layout=chosen_layout,
        target=target,
        table=context.table(table, chosen_layout.name),
        table_mode=context.job.target.table_mode,
        bad_rows=context.bad_rows(None, None),
        volume=wanted,
        source_bytes=sum(path.stat().st_size for path in files),
        prices=prices,
        sweep=entry.id,
        depot="" if named is None else named if is_url(named) else str(Path(named).resolve()),
    )
    write_plan(made, out_file)
    document = {
        "plan_id": made.id,
        "configuration": chosen.configuration.as_json(),
        "seconds": chosen.seconds.as_json(),
        "cost": chosen.cost.as_json(),
        "currency": prices.currency,
        "phases": chosen.phases,
        "binding_phase": chosen.binding_phase,
        "meets_limits": choice.meets_limits,
        "chance": choice.chance,
        "reasons": list(choice.reasons),
        "runner_up": choice.runner_up.as_json() if choice.runner_up else None,
        "plan": str(out_file),
    }
    with context.ledger() as ledger:
        expected = f"forecast {show_duration(chosen.seconds.median)}"
        summary = f"{chosen.configuration}: {expected}"
        if not choice.meets_limits:
            summary += ", misses its limits"
        ledger.put("plan", made.id, summary, document)
    (out.head if choice.meets_limits else out.bad)(str(chosen.configuration))
    for reason in choice.reasons:
        out.say(reason)
    show_forecasts(out, choice.ranked[:5], prices.currency, chosen)
    say_volume(out, wanted)
    if choice.meets_limits:
        out.say(f"Wrote {out_file}; `splarn run {out_file}` carries it out.")
    else:
        out.note(
            f"Wrote {out_file}, which does not keep the limits: allow more time or money, widen "
            "the space and sweep again, or run it knowing that."
        )
    out.document(document)
    return 0 if choice.meets_limits else 1


def keep_secrets_out(url: str, what: str = "target") -> None:
    """Refuses a secret written out in a URL that is about to be put into a file.

    Raises RequestError.
    """
    from splarn.core.errors import RequestError
    from splarn.core.source.secrets import tells_secret

    if tells_secret(url):
        raise RequestError(
            f"The {what}'s secrets would be written into the plan: put them into the environment "
            "and write ${NAME} in their place, in single quotes on the command line."
        )

"""What a report tells of a decision, gathered from the ledger, the job and a plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.units import show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.core.tuning.learning import Learned
    from splarn.core.tuning.plan_file import Plan
    from splarn.report.facts import Decided


def decided(context: Context, path: Path | None) -> Decided:
    """What is told of the plan in a file, or of the newest one."""
    from splarn.core.tuning.plan_file import read_plan

    return decided_of(context, read_plan(path or newest_plan(context)))


def newest_plan(context: Context) -> Path:
    """The file of the newest plan in the ledger that is still there.

    Raises RequestError where there is none.
    """
    with context.ledger() as ledger:
        for entry in reversed(ledger.entries("plan")):
            named = entry.document.get("plan")
            for at in (Path(named), context.job.folder / named) if named else ():
                if at.exists():
                    return at
    raise RequestError(
        "There is no plan to report on: write one with `splarn plan`, or name a load, a run or a "
        "JSON document."
    )


def decided_of(context: Context, plan: Plan) -> Decided:
    """The decision of a plan, with all that is known of it by now."""
    from dataclasses import replace

    from splarn.cli.learned import learn
    from splarn.engines import identity
    from splarn.report.telling import decided_by, with_history

    way = context.shown_depot(plan.way)
    learned = learn(context, plan.sweep or None, plan.target, plan.layout, None, way)
    form = str(learned.sweep.document.get("format", "csv"))
    space = context.space({}, form, bool(plan.depot))
    with context.ledger() as ledger:
        # The chance that was told with it; later trials tell of another one.
        planned = ledger.entries("plan", id_=plan.id)
        chance = planned[-1].document.get("chance") if planned else None
        told = decided_by(
            plan, learned.model, space, learned.evidence.trials, learned.packed, chance
        )
        told = with_history(told, ledger, plan, identity(plan.target))
    return replace(
        told,
        nearness=tuple(learned.sweep.document.get("ceilings", ())),
        method=_method(context, learned, plan),
    )


def _method(context: Context, learned: Learned, plan: Plan) -> tuple[tuple[str, str], ...]:
    """How it was measured, so that others can do it again."""
    document = learned.sweep.document
    sample, machine = document.get("sample", {}), document.get("machine", {})
    told = [
        ("sweep", f"{learned.sweep.id}, {learned.sweep.at[:16].replace('T', ' ')} UTC"),
        ("plan", plan.id),
        ("learnt from", learned.words),
        ("target", f"{document.get('target', '')} ({document.get('engine', 'unknown')})"),
        ("sample", f"{show_size(sample.get('bytes', 0))}, {sample.get('rows', 0):,} rows"),
        ("strategy", str(document.get("strategy", ""))),
        ("ended because", str(document.get("stopped_because", "it was broken off"))),
        ("machine", _machine(machine)),
        ("volume", f"{show_size(plan.volume.bytes)}, about {round(plan.volume.rows):,} rows"),
        ("again", f"splarn sweep, then splarn plan, in {context.job.folder.resolve().name}"),
    ]
    return tuple((name, what) for name, what in told if what)


def _machine(machine: Any) -> str:
    if isinstance(machine, dict):
        return ", ".join(f"{name} {value}" for name, value in machine.items())
    return str(machine)

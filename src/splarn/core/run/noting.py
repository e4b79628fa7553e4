"""What runs leave in the ledger, and what later ones are held against."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import reduce
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout.descriptor import layout_id
from splarn.core.ledger import Ledger
from splarn.core.run.drift import KINDS, Delivery, drifted, look_at_delivery
from splarn.core.run.flow import RunRecord
from splarn.core.run.kinds import files_of
from splarn.core.tuning.plan_file import Plan
from splarn.core.units import plural, show_change
from splarn.core.work.machine import describe_machine

# So many deliveries are remembered.
LAST = 5


def series_of(plan: Plan) -> str:
    """What the runs of one job have in common, whatever their parameters."""
    return plan.templates.table or plan.table


def held_to_earlier(
    ledger: Ledger,
    plan: Plan,
    base: Path,
    target_id: str,
    may_pass: Sequence[str] = (),
    say: Callable[[str], None] = lambda text: None,
) -> Delivery:
    """A look at what is to be loaded; `base` is what relative sources are relative to.

    Raises RequestError where it is unlike what came before. What `may_pass` is said.
    """
    looks = [look_at_delivery(one.paths, one.layout) for one in files_of(plan, base) if one.paths]
    now, before = reduce(Delivery.plus, looks), []
    for one in ledger.entries("run"):
        told = one.document
        same = told.get("target_id") == target_id and told.get("series") == series_of(plan)
        if same and told.get("plan_id") != plan.id and told.get("delivery"):
            before.append(Delivery.read(told["delivery"]))
    for drift in drifted(now, before[-LAST:]):
        unlike = f"unlike the deliveries before: {drift.words}"
        if drift.kind in may_pass:
            say(f"This one is {unlike}; the job lets that pass.")
            continue
        raise RequestError(
            f"This delivery is {unlike}. Nothing was loaded: look at it, and where "
            f'{KINDS[drift.kind]} may come, write may_pass = ["{drift.kind}"] under [run] in the '
            "job file."
        )
    return now


def note_run(
    ledger: Ledger,
    plan: Plan,
    record: RunRecord,
    document: dict[str, Any],
    target_id: str,
    depot: str,
    machine: str | None = None,
) -> None:
    """Notes the load and the run, for forecasts and runs to come; done by this machine, or by the
    `machine` that is described. Raises OutsideError.
    """
    load = record.load
    rows = f"{load.table}: {plural(load.rows_loaded, 'row')}"
    ledger.put(
        "load", load.load_id, f"{rows}, by {plan.id}",
        {**load.as_json(), "target_id": target_id}, parent=plan.id, seconds=load.seconds,
    )  # fmt: skip
    off = ""
    if record.error_pct is not None:
        change = show_change(abs(record.error_pct) / 100).lstrip("+")
        off = f", {change} {'slower' if record.error_pct > 0 else 'faster'} than forecast"
    known = {
        "machine": machine or describe_machine(),
        "trial": None if record.trial is None else record.trial.as_json(),
        "target_id": target_id,
        "layout": layout_id(plan.layout),
        "depot": depot,
        "engine": load.engine,
        "series": series_of(plan),
    }
    ledger.put(
        "run", f"run-{load.load_id}", rows + off, {**document, **known},
        parent=plan.id, seconds=record.seconds,
    )  # fmt: skip

"""Plans without a sweep before them, for runs whose forecast does not matter."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from splarn.core.check.limit import BadRows
from splarn.core.layout.descriptor import read_layout
from splarn.core.prices import Prices, Tier
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan, Templates, write_plan

SOON = {"low": 1.0, "median": 2.0, "high": 3.0}
FORECAST: dict[str, Any] = {
    "seconds": SOON, "cost": SOON,
    "phases": {"shape": 0.5, "queue": 0.1, "load": 1.0, "finish": 0.4},
}  # fmt: skip


def plan_of(
    home: Path, sources: Sequence[str], target: str = "sqlite:///t.db", *, table: str = "t",
    depot: str = "", mode: str = "create", part_size: int = 4096, templates: Sequence[str] = (),
    parameters: dict[str, str] | None = None, forecast: dict[str, Any] | None = None,
    **levers: Any,
) -> Path:  # fmt: skip
    """A plan file of a folder with a layout, for small parts."""
    usual = {
        "part_size": part_size, "packing": Packing(), "workers": 2, "load_streams": 1,
        "transfer_streams": 2 if depot else 0, "batch_rows": 50,
    }  # fmt: skip
    files = [one for text in sources for one in Path(home).glob(text)]
    size = sum(path.stat().st_size for path in files)
    plan = Plan(
        "plan-1", Configuration(**{**usual, **levers}), forecast or FORECAST, Limits(), True, (),
        tuple(str(home / text) for text in sources), read_layout(home / "layout.json"), target,
        table, mode, BadRows(), Volume(size, size / 14), size,
        Prices(tiers={name: Tier(per_hour=1) for name in ("u1", "u2", "u3")}), "sweep-1", depot,
        templates=Templates(tuple(str(home / text) for text in templates), depot, table),
        parameters=parameters or {},
    )  # fmt: skip
    write_plan(plan, home / "plan.json")
    return home / "plan.json"

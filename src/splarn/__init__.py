"""Splarn plans large bulk loads from measurements and carries them out exactly once.

Its stages are functions here, with the objects that pass between them; what is named in `__all__`
is the public face, and what is not may change at any time. `splarn.frames` gives trials and
forecasts as pandas frames, `splarn.figures` draws figures on axes.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from splarn.version import __version__

if TYPE_CHECKING:
    from splarn.core.check.checking import CheckResult
    from splarn.core.errors import OutsideError, RequestError, ShortfallError, SplarnError
    from splarn.core.inference.infer import Inferred
    from splarn.core.lake.compaction import CompactRecord
    from splarn.core.layout import Dialect, Field, Layout
    from splarn.core.layout.descriptor import read_layout, write_layout
    from splarn.core.load import LoadRecord
    from splarn.core.prices import Prices, read_prices
    from splarn.core.run.flow import RunRecord
    from splarn.core.shape.manifest import Manifest, read_manifest
    from splarn.core.shape.shaper import Shaped
    from splarn.core.ship import ShipRecord
    from splarn.core.survey import Catalogue
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.configuration import Configuration, Space
    from splarn.core.tuning.forecast import Forecast
    from splarn.core.tuning.model import Model
    from splarn.core.tuning.plan_file import Plan, read_plan, write_plan
    from splarn.core.tuning.trial import Trial
    from splarn.core.tuning.whatif import WhatIf
    from splarn.core.unload import UnloadRecord
    from splarn.library.asking import Asked, ask
    from splarn.library.compacting import compact
    from splarn.library.loading import load, run, undo
    from splarn.library.preparing import check, infer_layout, shape, ship, survey
    from splarn.library.tuning import Swept, decision, fit, forecast, plan, space, sweep, trials
    from splarn.library.unloading import unload
    from splarn.library.where import cluster
    from splarn.report.facts import Decided

# Where each public name lives; imported when first asked for, so that commands start quickly.
_HOMES = {
    "splarn.core.check.checking": ("CheckResult",),
    "splarn.core.errors": ("OutsideError", "RequestError", "ShortfallError", "SplarnError"),
    "splarn.core.inference.infer": ("Inferred",),
    "splarn.core.layout": ("Dialect", "Field", "Layout"),
    "splarn.core.layout.descriptor": ("read_layout", "write_layout"),
    "splarn.core.load": ("LoadRecord",),
    "splarn.core.prices": ("Prices", "read_prices"),
    "splarn.core.run.flow": ("RunRecord",),
    "splarn.core.shape.manifest": ("Manifest", "read_manifest"),
    "splarn.core.shape.shaper": ("Shaped",),
    "splarn.core.ship": ("ShipRecord",),
    "splarn.core.survey": ("Catalogue",),
    "splarn.core.tuning.columns": ("Volume",),
    "splarn.core.tuning.configuration": ("Configuration", "Space"),
    "splarn.core.tuning.forecast": ("Forecast",),
    "splarn.core.tuning.model": ("Model",),
    "splarn.core.tuning.plan_file": ("Plan", "read_plan", "write_plan"),
    "splarn.core.tuning.trial": ("Trial",),
    "splarn.core.tuning.whatif": ("WhatIf",),
    "splarn.library.loading": ("load", "run", "undo"),
    "splarn.core.lake.compaction": ("CompactRecord",),
    "splarn.core.unload": ("UnloadRecord",),
    "splarn.library.asking": ("Asked", "ask"),
    "splarn.library.compacting": ("compact",),
    "splarn.library.unloading": ("unload",),
    "splarn.library.preparing": ("check", "infer_layout", "shape", "ship", "survey"),
    "splarn.library.tuning": (
        "Swept", "decision", "fit", "forecast", "plan", "space", "sweep", "trials",
    ),
    "splarn.library.where": ("cluster",),
    "splarn.report.facts": ("Decided",),
}  # fmt: skip
_HOME = {name: module for module, names in _HOMES.items() for name in names}

__all__ = [
    "Asked",
    "Catalogue",
    "CheckResult",
    "CompactRecord",
    "Configuration",
    "Decided",
    "Dialect",
    "Field",
    "Forecast",
    "Inferred",
    "Layout",
    "LoadRecord",
    "Manifest",
    "Model",
    "OutsideError",
    "Plan",
    "Prices",
    "RequestError",
    "RunRecord",
    "Shaped",
    "ShipRecord",
    "ShortfallError",
    "Space",
    "SplarnError",
    "Swept",
    "Trial",
    "UnloadRecord",
    "Volume",
    "WhatIf",
    "__version__",
    "ask",
    "check",
    "cluster",
    "compact",
    "decision",
    "fit",
    "forecast",
    "infer_layout",
    "load",
    "plan",
    "read_layout",
    "read_manifest",
    "read_plan",
    "read_prices",
    "run",
    "shape",
    "ship",
    "space",
    "survey",
    "sweep",
    "trials",
    "undo",
    "unload",
    "write_layout",
    "write_plan",
]


def __getattr__(name: str) -> Any:
    if name not in _HOME:
        raise AttributeError(f"module 'splarn' has no attribute {name!r}")
    found = getattr(import_module(_HOME[name]), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted({*globals(), *_HOME})

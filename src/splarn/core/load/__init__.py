"""Loading: batches, rejects, progress kept in the target, verification, taking back."""

from splarn.core.check.limit import BadRows
from splarn.core.load.loader import load
from splarn.core.load.request import (
    TABLE_MODES,
    Input,
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    inputs_from_manifest,
    inputs_of_kinds,
)
from splarn.core.load.undo import undo
from splarn.core.target.levers import LoadLevers

__all__ = [
    "TABLE_MODES",
    "BadRows",
    "Input",
    "LoadLevers",
    "LoadRecord",
    "LoadRequest",
    "inputs_from_files",
    "inputs_from_manifest",
    "inputs_of_kinds",
    "load",
    "undo",
]

"""Loading: batches, rejects, progress kept in the target, verification, taking back."""

from splarn.core.levers import LoadLevers
from splarn.core.limit import BadRows
from splarn.core.load.loader import load
from splarn.core.load.request import (
    TABLE_MODES,
    Input,
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    inputs_from_manifest,
)
from splarn.core.load.undo import undo

__all__ = [
    "TABLE_MODES",
    "BadRows",
    "Input",
    "LoadLevers",
    "LoadRecord",
    "LoadRequest",
    "inputs_from_files",
    "inputs_from_manifest",
    "load",
    "undo",
]

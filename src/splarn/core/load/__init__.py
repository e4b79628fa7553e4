"""Loading: batches, rejects, progress kept in the target, verification."""

from splarn.core.load.loader import (
    TABLE_MODES,
    Input,
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    inputs_from_manifest,
    load,
)

__all__ = [
    "TABLE_MODES",
    "Input",
    "LoadRecord",
    "LoadRequest",
    "inputs_from_files",
    "inputs_from_manifest",
    "load",
]

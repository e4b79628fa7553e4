"""Rows of a table or of a query, back into parts with a manifest."""

from splarn.core.unload.unloader import UnloadRecord, UnloadRequest, unload

__all__ = ["UnloadRecord", "UnloadRequest", "unload"]

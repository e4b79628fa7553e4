"""Parts: what `shape` makes of the source, and the manifest that lists them."""

from splarn.core.shape.manifest import Manifest, Part, SourceRange, read_manifest

__all__ = ["Manifest", "Part", "SourceRange", "read_manifest"]

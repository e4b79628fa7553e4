"""Digests as HTTP headers hold them (RFC 9530, section 2)."""

from __future__ import annotations

import base64


def write_field(digest: str) -> str:
    """A SHA-256 in hex as a header's value."""
    return f"sha-256=:{base64.b64encode(bytes.fromhex(digest)).decode()}:"


def read_field(text: str) -> str | None:
    """The SHA-256 in hex that a header's value holds among others, None where it holds none."""
    for piece in text.split(","):
        kind, _, value = piece.strip().partition("=")
        if kind == "sha-256":
            try:
                return base64.b64decode(value.strip(":"), validate=True).hex()
            except ValueError:
                return None
    return None

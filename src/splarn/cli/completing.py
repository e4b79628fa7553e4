"""What a shell offers while a command is typed: ids, tables, codecs, figures; never an error."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

# So many ids are offered, the newest first.
MOST = 20

Offered = list[tuple[str, str]]


def ids_of(*kinds: str) -> Callable[[str], Offered]:
    """Offers ids of entries of the ledger here, with what they were."""

    def offer(incomplete: str) -> Offered:
        found = [
            (one.id, one.summary)
            for one in reversed(_entries())
            if one.kind in kinds and one.id.startswith(incomplete)
        ]
        return found[:MOST]

    return offer


def tables(incomplete: str) -> Offered:
    """Offers tables that were loaded from here."""
    named = {
        str(one.document.get("table")): one.at[:10] for one in _entries() if one.kind == "load"
    }
    return [(name, f"last {at}") for name, at in named.items() if name.startswith(incomplete)]


def targets(incomplete: str) -> Offered:
    """Offers targets that were loaded into from here, and how those of each kind are written."""
    seen = {str(one.document.get("target")): one.id for one in _entries() if one.kind == "load"}
    kinds = {
        "sqlite:///": "a database file", "duckdb:///": "a database file",
        "postgresql://": "user@host/database", "mariadb://": "user@host/database",
        "millrace://": "the simulated engine",
    }  # fmt: skip
    return [one for one in (seen | kinds).items() if one[0].startswith(incomplete)]


def values_of(lever: str) -> Callable[[str], Offered]:
    """Offers what a lever may be, also behind a comma."""

    def offer(incomplete: str) -> Offered:
        from splarn.core.source.codecs import codecs
        from splarn.core.tuning.configuration import LEVERS

        before, comma, last = incomplete.rpartition(",")
        known = [str(one) for one in LEVERS[lever].known or LEVERS[lever].defaults]
        if lever == "packing":
            known = list(codecs())
        return [(f"{before}{comma}{one}", "") for one in known if one.startswith(last)]

    return offer


def figures(incomplete: str) -> Offered:
    """Offers the figures of a report."""
    from splarn.report.figures import FIGURES

    return [(one.name, one.title) for one in FIGURES.values() if one.name.startswith(incomplete)]


def _entries() -> list:  # type: ignore[type-arg]
    """The ledger's entries here, none where it cannot be read: a shell wants no errors."""
    from splarn.core.ledger import Ledger

    try:
        ledger = Ledger(Path())
        try:
            return ledger.entries()
        finally:
            ledger.close()
    except Exception:
        return []

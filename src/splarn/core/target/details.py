"""What has to be known of a load to go on with it or to take it back, kept in the target."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, fields, replace
from typing import Any

from splarn.core.layout import Field
from splarn.core.source.content import Held, Identity
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.levers import RENAMED
from splarn.core.target.marks import Marks

# Written into every note; notes without it come from a Splarn that kept less.
VERSION = 2
# What the sums of texts in digests count.
BYTES = "bytes"
# What of a field its digests depend on.
_OF_FIELD = ("name", "type", "format", "precision", "scale")


@dataclass(frozen=True)
class LoadDetails:
    """See each field.

    `stage` is prepare, load, swap or empty for a load that has ended.
    """

    stage: str = ""
    # The table that streams fill, where it is not the load's own: a landing table or one aside.
    side_table: str = ""
    # Whether that table takes the place of the load's own, rather than giving it its rows.
    swaps: bool = False
    # The table that keeps the rows, or the whole table, from before.
    before: str = ""
    # The table was made by this load, so taking the load back removes it.
    made: bool = False
    durability: str = "full"
    route: str = "straight"
    # Fields stored, in layout order; others of the source are left out.
    fields: tuple[Field, ...] = ()
    # Indexes dropped for the load: name, statement.
    indexes: tuple[tuple[str, str], ...] = ()
    # Number of the table's last row before the load, where the engine numbers rows.
    last_row: int | None = None
    # Rows in the table before the load, and their digests where rows cannot be marked.
    rows_before: int = 0
    digests_before: tuple[ColumnDigest, ...] | None = None
    # The tier to which the compute returns when this load no longer needs it larger.
    resting_tier: str = ""
    # Loads whose rows went with this one, with the states they had.
    ended: tuple[tuple[str, str], ...] = ()
    # Whether rows of those had been changed by then, as far as the engine marks changes.
    touched: bool = False
    # Parts that were noted with the load, so that lost notes are missed.
    part_count: int = 0
    # Of a load whose parts are made while others are loaded: by what run, in what way they are cut,
    # and of which files, with their sizes on disk.
    run: str = ""
    cut: str = ""
    sources: tuple[tuple[str, Identity, int], ...] = ()
    # Of parts that were made of other files: which stretches of which content they hold.
    holds: tuple[tuple[str, tuple[Held, ...]], ...] = ()
    # What the sums of texts count; an earlier Splarn counted characters, and said nothing.
    text_sums: str = ""
    # What was read, once all was in, and which rows of the table those are.
    digests: tuple[ColumnDigest, ...] | None = None
    marks: Marks | None = None
    # The table's columns as the load left them, and a figure that any changed cell changes.
    columns_after: str = ""
    fingerprint: str | None = None

    @property
    def names(self) -> tuple[str, ...]:
        """The columns that are filled."""
        return tuple(field.name for field in self.fields)

    def with_(self, **changes: Any) -> LoadDetails:
        """The same with some fields changed."""
        return replace(self, **changes)

    def text(self) -> str:
        """As the target keeps it."""
        default = LoadDetails()
        changed = {
            field.name: getattr(self, field.name)
            for field in fields(self)
            if getattr(self, field.name) != getattr(default, field.name)
        }
        for name in ("digests", "digests_before"):
            if changed.get(name) is not None:
                changed[name] = [asdict(digest) for digest in changed[name]]
        if self.holds:
            changed["holds"] = [
                [
                    part_id,
                    [[one.content.whole, one.start, one.end, one.content.begins] for one in held],
                ]
                for part_id, held in self.holds
            ]
        if self.sources:
            changed["sources"] = [
                [name, one.begins, one.whole, size] for name, one, size in self.sources
            ]
        changed["version"] = VERSION
        changed["fields"] = [[getattr(f, name) for name in _OF_FIELD] for f in self.fields]
        return json.dumps(changed, ensure_ascii=False, separators=(",", ":"))

    @classmethod
    def read(cls, text: str | None) -> LoadDetails:
        """The reverse of `text`; what a newer Splarn added is left out."""
        document = json.loads(text or "{}")
        if document and "version" not in document:
            # Its Splarn told this by the name.
            document["swaps"] = "_next_" in document.get("aside", "")
        # So an earlier Splarn named them.
        for earlier, name in (("aside", "side_table"), ("rest", "resting_tier")):
            document.setdefault(name, document.get(earlier, ""))
        known = {field.name for field in fields(cls)}
        kept = {name: value for name, value in document.items() if name in known}
        for name in ("digests", "digests_before"):
            if kept.get(name) is not None:
                kept[name] = tuple(ColumnDigest(**digest) for digest in kept[name])
        for name in ("durability", "route"):
            if name in kept:
                kept[name] = RENAMED.get(kept[name], kept[name])
        for name in ("indexes", "ended", "marks"):
            if kept.get(name) is not None:
                kept[name] = tuple(tuple(pair) for pair in kept[name])
        kept["holds"] = tuple(
            (part_id, tuple(_held(*held) for held in all_held))
            for part_id, all_held in kept.get("holds", ())
        )
        kept["sources"] = tuple(
            (name, Identity(begins, whole), size)
            for name, begins, whole, size in kept.get("sources", ())
        )
        described = [dict(zip(_OF_FIELD, one, strict=True)) for one in kept.get("fields", [])]
        kept["fields"] = tuple(Field(**one) for one in described)
        return cls(**kept)


def _held(whole: str, start: int, end: int | None, begins: str = "") -> Held:
    return Held(Identity(begins, whole), start, end)

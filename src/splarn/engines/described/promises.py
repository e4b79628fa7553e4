"""Which promises a description's abilities carry, in words."""

from __future__ import annotations

from splarn.engines.described.description import Description

BY_TRANSACTION = "once, by transaction"
BY_HISTORY = "once, by the engine's own history"
ASK_FIRST = "may double after a lost reply: ask first"


def promise_of(description: Description) -> str:
    """How it is with loading twice, as the three ways are called."""
    if description.abilities.transactions:
        return BY_TRANSACTION
    if description.statements.came_in or description.abilities.once_by_file:
        return BY_HISTORY
    return ASK_FIRST


def said_of(description: Description) -> list[str]:
    """What holds and what does not, in sentences."""
    name, able = description.engine.name, description.abilities
    promise = promise_of(description)
    told = {
        BY_TRANSACTION: "a part and the note that it is in commit together",
        BY_HISTORY: "what came in of a part is asked of the engine before it is loaded again",
        ASK_FIRST: "after a break the rows are counted, and where that does not tell whether a "
        "part is in, the load stops and asks",
    }
    sentences = [f"{name} loads {promise}: {told[promise]}."]
    if not able.transactions and not description.statements.under_way:
        sentences.append(
            f"What {name} still does for a client that is gone is not seen: after a break begin "
            "again once it has ended."
        )
    if not able.whole_parts and not able.transactions:
        sentences.append(
            f"A part that fails may leave rows in {name}: then the load stops, since nothing tells "
            "them from others."
        )
    if not description.statements.claim:
        sentences.append(
            "Two loads of the same content at once are kept apart on one machine alone: begin no "
            "other on another."
        )
    if not description.statements.aside:
        sentences.append(
            "Rows that it refuses halt the load: it sets none aside, so `load` must be given good "
            "ones; a run leaves bad ones behind as it makes the parts."
        )
    sentences.append(
        "What was changed in rows later is seen only where it changes a column's count, sum, least "
        "or most."
    )
    if not description.statements.brought:
        sentences.append(
            "Nothing tells the rows of one load from others in the same table, so a load into a "
            "table that had rows cannot be taken back."
        )
    return sentences

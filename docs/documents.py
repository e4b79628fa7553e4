"""What each command prints with --json: said once here, for docs/documents.md and the schemas.

A key's value is "TYPE words", a dictionary of keys, or a list of one such value. A type with `?`
may be null, a key with `?` may be missing, the key `*` stands for any, and `$name` for a shape that
several documents share.
"""

from __future__ import annotations

from typing import Any

from splarn.core.tuning.configuration import LEVERS

Shape = Any

_FORECAST = {
    "configuration": "$configuration",
    "seconds": "$span", "cost": "$span", "phases": "$phases", "cost_items": "$items",
    "overlapped": "$span", "in_turn": "$span",
    "extrapolated": "boolean Whether it reaches beyond the trials.",
    "extrapolated_levers": ["text A lever in which it does."],
    "on_frontier": "boolean Whether none is both faster and cheaper.",
}  # fmt: skip
_LEVER_KEYS = {
    one.key: f"{'integer' if one.is_number else 'text'} {one.help.partition(', as ')[0]}"
    for one in LEVERS.values()
}

SHARED: dict[str, Shape] = {
    "configuration": {**_LEVER_KEYS, "level": "integer The codec's level."},
    "span": {
        "low": "number A twentieth is less.",
        "median": "number Half is less.",
        "high": "number A twentieth is more.",
    },
    "phases": {"*": "number Seconds of the phase: shape, ship, size, queue, load, finish."},
    "items": {
        "compute": "number Of rented compute.", "machine": "number Of this machine's hours.",
        "storage": "number Of the depot's.", "requests": "number Of the depot's.",
        "transfer": "number Of bytes over the line.", "scans": "number Of bytes that were scanned.",
        "total?": "number All of them.",
    },
    "forecast": _FORECAST,
    "planned": {
        "seconds": "$span", "cost": "$span", "phases": "$phases",
        "configuration?": "$configuration", "cost_items?": "$items", "overlapped?": "$span",
        "in_turn?": "$span", "extrapolated?": "boolean Whether it reaches beyond the trials.",
        "extrapolated_levers?": ["text A lever in which it does."],
        "on_frontier?": "boolean Whether none is both faster and cheaper.",
    },
    "read": {
        "bytes": "number Fetched.", "requests": "number Fetches.", "files": "number Opened.",
        "groups": "number Row groups of which something is fetched.",
        "rows": "number In these.", "seconds": "number That it takes.",
    },
    "scans": {
        "rows": "number Of the delivery.", "bytes": "number Unpacked.",
        "looked_at": {
            "bytes": "number Unpacked.", "whole": "boolean Whether nothing was left out.",
            "beginnings_only": "boolean Whether of packed files only the beginnings were seen.",
        },
        "months": "number For which rows are kept and asked.", "currency": "text Of costs.",
        "questions": [{
            "name": "text As it was called.", "question": "text As it is written.",
            "share": "number Of the rows that fit.", "monthly": "number How often a month.",
        }],
        "kept": [{
            "kept_as": "text How rows are kept.",
            "delivered": "boolean Whether that is how they came.",
            "files": "number How many.", "bytes": "number Of all of them.",
            "questions": ["$read"],
            "monthly": {
                "bytes": "number Fetched by all questions of a month.",
                "requests": "number Fetches.", "files": "number Opened.",
                "groups": "number Of row groups.", "rows": "number In these.",
                "seconds": "number That they take.", "cost": "number That they cost.",
                "keeping": "number That keeping the rows costs.",
            },
            "writing": {"seconds": "number That making the files takes.", "cost": "number Of it."},
            "total": "number What all costs over the months.",
            "paid_after": {
                "money": "number? Questions after which writing has paid for itself in money.",
                "time": "number? The same in time.",
            },
        }],
        "best": "text Which costs least.",
    },
    "finding": {
        "kind": "text What was found, as many-small.", "message": "text In a sentence.",
        "path": "text? The file, null for all of them.",
    },
    "ratio": {
        "low": "number A twentieth is less.", "median": "number Time over that of the first.",
        "high": "number A twentieth is more.",
    },
    "left_out": [{
        "reason": "text Why.", "configurations": "integer How many.",
    }],
    "layout": {
        "name": "text Of the layout.", "format": "text csv, jsonl or parquet.",
        "encoding?": "text Of text.", "dialect?": "object Table Dialect.",
        "schema": "object Table Schema.", "*": "any Further keys of the standards.",
    },
    "digest": {
        "name": "text The field.", "values": "integer How many there are.",
        "nulls": "integer How many are null.", "sum": "any Their sum, or null.",
        "low": "any The least.", "high": "any The most.",
    },
    "load": {
        "load_id": "text What `undo` takes it back by.", "table": "text Where to.",
        "target": "text Of which target.", "engine": "text What it says it is.",
        "rows_loaded": "integer Rows that came in.", "rows_rejected": "integer Rows set aside.",
        "parts": [{
            "path": "text The file.", "status": "text done, or where it stopped.",
            "rows": "integer Rows of it that came in.", "rejected": "integer Rows set aside.",
            "seconds": "number By its stream.",
        }],
        "seconds": "number In all.", "phases": "$phases",
        "stages": {"*": "number Core-seconds of this machine, by what they went into."},
        "verified": "boolean? Whether the table holds what was read; null where nobody looked.",
        "differences": ["text In what it differs."],
        "digests": ["$digest"],
        "rejects": "text? The folder of rejects.",
        "resumed": "boolean Whether it went on with an interrupted load.",
        "notes": ["text What to be aware of."],
        "before": "text? The table that keeps the rows from before.",
        "compared": "integer Rows that were read back, value by value.",
        "hashed": "boolean Whether a hash of every cell was the same.",
        "done_before": "boolean Whether all of it was in already, so that nothing was loaded.",
        "promises": ["text What holds of an engine by description."],
        "compute": [["any A tier and its seconds."]],
        "cost?": "$items", "currency?": "text Of the cost.",
    },
    "entry": {
        "kind": "text ship, load, undo, sweep, trial, plan, run or probe.", "id": "text Its id.",
        "parent": "text The sweep of a trial, the plan of a run.", "at": "text When, in UTC.",
        "summary": "text In words.", "seconds": "number? What it took.",
        "document": "object What is known of it.",
    },
    "readings": {
        "sessions": "integer Sessions that read beside it.", "readings?": "integer How often.",
        "refused?": "integer How often in vain.", "median?": "number Seconds of a reading.",
        "high?": "number Seconds that a twentieth took longer than.",
        "alone?": "number Seconds of a reading beside no load.",
        "slower?": "number Times as long beside a load.",
        "loading_takes?": "any What loading takes beside them.", "*": "any Further figures.",
    },
    "trial": {
        "configuration": "$configuration", "repeat": "integer Counted from 1.",
        "role": "text warm-up, reference, trial, small, large, alone or flow.",
        "seconds": "number One stage after the other.", "phases": "$phases",
        "rows": "integer Rows of the sample.", "bytes": "integer Unpacked.",
        "packed_bytes": "integer As they were loaded.", "parts": "integer Parts.",
        "started": "text When.", "failure": "text Why it failed; empty where it did not.",
        "used": {"*": "number? Of this machine and the server, in seconds and bytes."},
        "read": "$readings", "moved": "integer Bytes over the line.",
        "requests": "integer To depots.", "scanned": "integer Bytes that the target scanned.",
        "waited": "number Seconds that a depot asked to wait.",
        "part_seconds": ["number Of each part."], "part_bytes": ["integer Of each part."],
        "overlapped": "number Seconds with stages at the same time, of a flow.",
        "rows_a_second": "number While loading.", "bytes_a_second": "number While loading.",
        "bound": "text What held it up most.", "compute": [["any A tier and its seconds."]],
        "cost?": "number In all.", "currency?": "text Of the cost.", "cost_items?": "$items",
    },
    "step": {
        "step": "text Which.", "what": "text What would be done.",
        "seconds": "number? What it is expected to take.",
    },
    "increment": {
        "bytes": "integer Its size.", "forecast": "$forecast",
        "meets_limits": "boolean Whether it keeps the limits.",
        "full_keeps_limits_for": "integer? After so many a full delivery no longer does.",
    },
    "volume": {
        "bytes": "number Unpacked.", "rows": "number About.",
        "error": "number By what share it may be off.",
    },
    "fixed": {
        "machines": "integer That it has.", "slots": "integer At work at once.",
        "described": "text Its machines and workers.",
        "join_seconds": "number Until workers were found to be of use.",
        "part_seconds": "number Until a worker that ended a part has another.",
    },
    "foretold": {
        "volume": "$volume", "times_tried": "number Over the largest trial.",
        "forecasts": ["$forecast"], "by_machines?": ["$forecast_of_machines"],
    },
    "forecast_of_machines": {
        **_FORECAST, "machines": "integer How many.",
        "held_up_by": "text? What is shared and holds it up.",
    },
    "planned_kind": {
        "name": "text Of the kind.", "files": "integer How many.", "bytes": "integer On disk.",
        "table": "text Where to.", "casts": ["text What is made of what."],
        "seconds": "number What its table is forecast to take.",
    },
}  # fmt: skip

_DRY = {
    "plan_id": "text The plan.", "parameters": {"*": "text A value of --set."},
    "dry": "boolean true", "goes_on": "boolean Whether parts are there already.",
    "steps": ["$step"], "seconds": "$span", "cost": "$span",
    "rows": "number That will come.", "bytes": "integer Of the files.",
}  # fmt: skip
_RUN = {
    "plan_id": "text The plan.", "parameters": {"*": "text A value of --set."},
    "configuration": "$configuration", "load": "$load", "forecast": "$planned",
    "actual": {
        "seconds": "number In all.", "cost": "number In all.", "phases": "$phases",
    },
    "cost": "$items", "currency": "text Of the cost.",
    "error_pct": "number? Actual over forecast time, less 1; null where it went on with a run, or "
    "took the rows of a table.",
    "moved?": {
        "place": "text The target that rows came from.", "table": "text Its table.",
        "rows": "integer In it.",
        "verified": "boolean? Whether its figures are those of what came out.",
        "differences": ["text How they differ."],
    },
    "resumed": "boolean Whether it went on with an interrupted run.",
    "changes": [{"*": "any What was changed, to what, when and why."}],
    "rows_not_converted": "integer Rows set aside before they were loaded.",
    "conversion_rejects": "text? Where these are.",
}  # fmt: skip
_LAYOUT = {
    "layout": "$layout", "rows_sampled": "integer Rows looked at.",
    "notes": ["text What remains in doubt."],
    "seen": [{
        "name": "text The field.", "rows": "integer Rows looked at.",
        "empty": "integer Without a value.", "distinct": "integer Different values.",
        "longest": "integer Characters.", "example": "text A value.",
        "unique": "boolean Whether all differ.",
    }],
    "evidence?": [{
        "filled": "integer With a value.", "empty": "integer Without one.",
        "common": [["any A value, and how often."]], "odd": [["text A value, and where."]],
        "alternatives": [["any A type, and how many fit it."]],
    }],
    "ddl": "text? The statement of --ddl.", "out": "text? The file that was written.",
}  # fmt: skip

# By command; several where an option makes another document of it, which its name says.
DOCUMENTS: dict[str, Shape] = {
    "demo": {
        "into": "text The folder.", "rows": "integer Made up.", "good": "integer Of these.",
        "bad": "integer Of these.", "rows_loaded": "integer In the end.",
        "exact": "boolean Whether just the good ones are in.",
        "verified": "boolean? As `run` has it.", "configuration": "$configuration",
        "forecast": "$forecast", "actual": {
            "seconds": "number In all.", "cost": "number In all.", "phases": "$phases",
        },
        "error_pct": "number? As `run` has it.",
    },
    "new": {
        "files": ["text What was written."], "table": "text Where to.",
        "space": {"*": ["any A value of the lever."]}, "kinds": ["text A kind of its own."],
        "bytes": "number Unpacked, about.",
    },
    "doctor": {
        "packages": [{
            "name": "text The package.", "version": "text? Null where it is missing.",
            "extra": "text What brings it.", "for": "text What it is for.",
        }],
        "programs": [{
            "name": "text A client that runbooks call.", "found": "boolean Whether it is here.",
        }],
        "kernel": "boolean Whether the kernel in C was built.",
        "install": ["text A command that brings what is missing."],
        "target": {
            "?": "", "place": "text Which.", "reachable": "boolean Whether it answers.",
            "unfinished": ["text A load."],
        },
        "compute": {
            "?": "", "tier": "text? Its size.", "rest": "text? Its size at rest.",
            "used_by": "text? The load that uses it.", "forgotten": "boolean Whether it was left.",
            "per_hour": "number? What it costs.", "per_hour_at_rest": "number? What it would.",
            "currency": "text Of both.",
        },
        "probe?": {"*": "any Bytes or seconds a second that this machine can do."},
    },
    "doctor --like": {"files": ["text What was written."]},
    "doctor --engine": {
        "engine": "text What it is called.", "place": "text What it is known by.",
        "tried": [{
            "what": "text What was tried.", "holds": "boolean? Null where it is not declared.",
            "answer": "text What came of it.",
        }],
        "promise": "text? How it is with loading twice; null where something fails.",
        "sentences": ["text What holds and what does not."],
    },
    "standin": {
        "depot": "text Its address.", "engine": "text Its URL.", "folder": "text What it keeps.",
    },
    "survey": {
        "files": [{
            "path": "text The file.", "bytes": "integer On disk.", "codec": "text By its content.",
            "format": "text By its content.", "encoding": "text? Of text.",
            "line_end": "text? Of text.", "columns": "integer? How many.",
            "rows": "number? How many; null where it is damaged.", "rows_low": "number? At least.",
            "rows_high": "number? At most.", "rows_exact": "boolean Whether they were counted.",
            "raw_bytes": "number? Unpacked.", "row_bytes": "number? Of a row.",
            "content_id": "text What tells its content from others.",
            "modified": "number Seconds since 1970.",
            "splittable": "boolean Whether workers share it.",
            "findings": ["$finding"],
        }],
        "totals": {
            "files": "integer How many.", "bytes": "integer On disk.", "rows": "number? About.",
        },
        "findings": ["$finding"],
    },
    "layout": {**_LAYOUT, "others?": [_LAYOUT]},
    "check": {
        "rows": "integer Read.", "good": "integer Of these.", "bad": "integer Of these.",
        "faults": [{
            "path": "text The file.", "line": "integer From 1.", "row": "integer From 1.",
            "field": "text? Null for the whole record.", "kind": "text Of fault.",
            "value": "text? What stands there.", "message": "text What is wrong with it.",
            "part?": "text The part.", "part_row?": "integer The row in it.",
        }],
        "summary": [{
            "kind": "text Of fault.", "field": "text? Which.", "rows": "integer How many.",
        }],
        "rejects": "text? The file of bad rows.", "stopped": "boolean Whether it stopped early.",
        "stopped_because": "text? Why.",
    },
    "shape": {
        "manifest": "text Its file.", "parts": "integer How many.", "rows": "integer In them.",
        "bytes_in": "integer Of the source.", "bytes_out": "integer Of the parts.",
        "parts_kept": "integer That were whole before.", "rows_rejected": "integer Set aside.",
        "rejects": "text? Where these are.", "seconds": "number In all.",
        "verified": "boolean? Whether they hold the source's records; null where nobody looked.",
        "differences": ["text In what they differ."],
    },
    "shape --estimate": {
        "sample_bytes": "integer Tried.", "volume_bytes": "number Unpacked.",
        "workers": "integer At once.",
        "estimates": [{
            "codec": "text Which.", "level": "integer At which level.",
            "pack_bytes_per_second": "number A worker's.",
            "unpack_bytes_per_second": "number A worker's.",
            "share": "number Packed over unpacked.", "bytes": "number Of all, packed.",
            "seconds": "number For all.",
        }],
    },
    "ship": {
        "ship_id": "text Its id.", "depot": "text Where to.",
        "files": [{
            "path": "text Here.", "name": "text There.", "bytes": "integer Its size.",
            "sha256": "text At both ends.", "kept": "boolean Whether it was there.",
            "seconds": "number By its streams.", "requests": "integer For it.",
            "retries": "integer Of these.", "throttled_seconds": "number That it waited.",
            "streams": ["integer Which."],
        }],
        "bytes_sent": "integer In all.", "seconds": "number In all.",
        "requests": "integer In all.", "retries": "integer In all.",
        "throttled_seconds": "number In all.",
        "streams": [{
            "stream": "integer Which.", "bytes": "integer By it.",
            "bytes_per_second": "number While it sent.", "requests": "integer By it.",
            "retries": "integer By it.", "throttled_seconds": "number That it waited.",
        }],
        "cost?": "$items", "currency?": "text Of the cost.",
    },
    "load": "$load",
    "undo": {
        "load_id": "text Which.", "table": "text Of which table.",
        "target": "text Of which target.",
        "rows_removed": "integer Taken out.", "rows_restored": "integer Put back.",
        "what": "text In words.",
    },
    "unload": {
        "unload_id": "text Its id in the ledger.", "manifest": "text Its file.",
        "source": "text Which target.",
        "table": "text? Whose rows.", "query": "text? Or what gave them.",
        "rows": "integer In all parts.", "parts": "integer How many.",
        "parts_kept": "integer That were whole before.", "bytes": "integer Of the parts.",
        "raw_bytes": "integer Unpacked.", "streams": "integer At once.",
        "seconds": "number In all.",
        "verified": "boolean? Whether they hold what the target does; null where nobody looked.",
        "verified_by": "text? figures of every column, or count.",
        "differences": ["text In what they differ."],
    },
    "compact": {
        "compact_id": "text Its id in the ledger, if it changed anything.",
        "table": "text Which.", "target": "text Of which target.",
        "dry_run": "boolean Whether it only looked.",
        "files_before": "integer Of the table.", "files_after": "integer Of the table.",
        "bytes_before": "integer Of all files.", "bytes_after": "integer Of all files.",
        "rows": "integer In the table.", "merges": "integer That came in.",
        "merges_resumed": "integer That an earlier try had written.",
        "merges_void": "integer That others made void meanwhile.",
        "seconds": "number In all.",
        "verified": "boolean? Whether new files hold the rows of the old ones; null without any.",
        "estimate": {
            "files_merged": "integer That go.", "bytes_merged": "integer Of these.",
            "files_after": "integer Of the table, as foreseen.",
            "bytes_after": "integer Of the table, as foreseen.",
            "seconds": "number? As foreseen; null where there is nothing to merge.",
            "seconds_saved_a_scan": "number That opening all files takes less.",
        },
        "leftover": [{
            "states": "integer Of the table from before.", "files": "integer That only they have.",
            "bytes": "integer Of these.", "loads": ["text That can not be taken back then."],
        }],
    },
    "compact --history": {
        "table": "text Which.", "target": "text Of which target.",
        "states": [{
            "state": "text Its number.", "since": "text From when on, in UTC.",
            "what": "text loaded, compacted, taken back, or what somebody else did.",
            "loads": ["text Which, where it was loads."], "rows": "integer In it.",
            "files": "integer In it.", "bytes": "integer Of these.",
            "kept_as": ["text Names that keep it."], "now": "boolean Whether it holds now.",
        }],
    },
    "ledger": {
        "entries": ["$entry"], "costs": {"*": {"*": "number By currency and kind."}},
    },
    "ledger ID": "$entry",
    "ledger --tidy": {
        "left": [{
            "what": "text What was left.", "where": "text Where.", "bytes": "integer? Its size.",
        }],
        "removed": "boolean Whether it is gone.",
    },
    "sweep": {
        "sweep_id": "text Its id.", "strategy": "text adaptive, star or grid.",
        "depot": "text? By way of which.",
        "best?": {
            "configuration": "$configuration", "chance": "number? That none is better by more.",
        },
        "regret?": {
            "expected": "number? Of deciding now.", "wanted?": "number At which it stops.",
        },
        "drift?": {
            "?": "", "share": "number A trial.", "low": "number At least.",
            "high": "number At most.", "a_trial": "number A trial, by which it went.",
        },
        "flow?": {
            "seconds": "number At the same time.", "in_turn": "number One after the other.",
        },
        "ceilings?": [{"*": "any How near a phase came to what the machine can do."}],
        "readers?": "$readings", "cluster?": "$fixed",
        "trials": ["$trial"], "stopped_because": "text Why it ended.",
        "trial_seconds": "number Of all trials.", "elapsed": "number Of the command.",
        "left_out": "$left_out", "tiers": [{"*": "any What each tier took and cost."}],
    },
    "sweep --dry": {
        "strategy": "text Which.",
        "beforehand": [{"role": "text Of the trial.", "configuration": "$configuration"}],
        "most": "integer Trials at most.",
        "foreseen": {
            "?": "", "trials": "integer About.", "start": "integer To begin with.",
            "seconds": "number Of all.", "cost": "number Of all.",
            "load_seconds": "number Of a whole load.", "load_cost": "number Of a whole load.",
        },
        "left_out": "$left_out",
    },
    "compare": {
        "pairs": [{
            "a": "text The first.", "b": "text The other.", "ratio": "$ratio",
            "phases": {"*": "$ratio"}, "verdict": "text In words.",
            "matched_configurations": "integer That both have.",
            "per_row": "boolean Whether times are held against one another a row.",
            "different": [["text A fact, of the first and of the other."]],
        }],
        "levers": [{
            "lever": "text Which.", "from": "text Its value.", "to": "text Its other value.",
            "pairs": "integer Of trials that differ in it alone.", "ratio": "$ratio",
        }],
        "sides": [{
            "name": "text Which.", "runs": "integer How many.", "seconds": "number The median.",
            "rows_a_second": "number While loading.", "speed_up": "number? Over the first.",
            "efficiency": "number? Speed-up over streams or units.", "cost": "number? The median.",
        }],
        "slower": ["text A side that is slower than --fail-if-slower allows."],
    },
    "forecast": {
        "sweep_id?": "text What it was learnt from; missing where only questions are told.",
        "currency": "text Of costs.", "configurations?": "integer In the space.",
        "volume?": "$volume", "times_tried?": "number Over the largest trial.",
        "forecasts": ["$forecast"], "volumes?": ["$foretold"], "scans?": "$scans",
        "by_machines?": ["$forecast_of_machines"],
        "explained?": {
            "configuration": "$configuration",
            "causes": [{
                "phase": "text Which.", "words": "text What it goes into.",
                "seconds": "number Of the time.",
            }],
            "parameters": [{
                "phase": "text Which.", "words": "text What it is.", "low": "number? At least.",
                "median": "number? Likely.", "high": "number? At most.", "unit": "text Of these.",
                "told": "boolean Whether trials tell it.", "would_tell": "text What would.",
            }],
            "left_out": {
                "?": "", "trials": "integer In all.", "foretold": "integer By the others.",
                "held": "integer In their interval.", "width": "number By what it was widened.",
            },
            "laws": [{
                "phase": "text Which.", "without": "text What was left out.",
                "gain": "number Of foretelling with it.", "error": "number Of the gain.",
                "needed": "boolean Whether it is.",
            }],
            "doubts": ["text What does not fit."],
        },
    },
    "plan": {
        "plan_id": "text Its id.", "configuration": "$configuration", "seconds": "$span",
        "cost": "$span", "cost_items": "$items", "currency": "text Of costs.",
        "phases": "$phases", "binding_phase": "text Which takes most.",
        "meets_limits": "boolean Whether it does.",
        "chance": "number? Of keeping the limits; null without any.",
        "reasons": ["text Why this one."], "runner_up": "$forecast?",
        "plan": "text? The file; null where none was written.",
        "increment?": "$increment", "kinds?": ["$planned_kind"],
        "shapes?": [{
            "file_layout": "text How files are laid out.", "part_size": "integer Of the parts.",
            "meets_limits": "boolean Whether a load into it does.",
            "load": {"seconds": "number Of the best load.", "cost": "number Of it."},
            "monthly": {
                "bytes": "number That a month's questions read.", "seconds": "number They take.",
                "cost": "number They cost.", "keeping": "number That keeping the rows costs.",
            },
            "total": {"seconds": "number Load and all questions.", "cost": "number Of them."},
        }],
    },
    "run": {**_RUN, "others?": [_RUN]},
    "run --dry": {**_DRY, "others?": [_DRY]},
    "report": {"files": ["text What was written."]},
    "plot": {"files": ["text What was written."], "words": "text What is to be seen."},
    "runbook": {
        "files": ["text What was written."], "parts": "integer How many.",
        "rows": "integer In them.", "set_aside": "integer Not in them.",
        "client": "text What carries it out.",
    },
    "any, failing": {"error": "text One sentence.", "exit_code": "integer 1, 2, 3 or 130."},
}  # fmt: skip

TYPES = {
    "text": "string", "integer": "integer", "number": "number", "boolean": "boolean",
    "object": "object",
}  # fmt: skip


def schema_of(shape: Shape, strict: bool = False) -> dict[str, Any]:
    """The JSON Schema of a shape; a `strict` one allows no key that is not named."""
    if isinstance(shape, list):
        return {"type": "array", "items": schema_of(shape[0], strict)}
    if isinstance(shape, str) and shape.startswith("$"):
        name = shape[1:].rstrip("?")
        inner = schema_of(SHARED[name], strict)
        return {"anyOf": [inner, {"type": "null"}]} if shape.endswith("?") else inner
    if isinstance(shape, str):
        kind, _, words = shape.partition(" ")
        if kind == "any":
            return {"description": words}
        plain = TYPES[kind.rstrip("?")]
        return {"type": [plain, "null"] if kind.endswith("?") else plain, "description": words}
    keys = {name.rstrip("?"): one for name, one in shape.items() if name not in ("*", "?")}
    made: dict[str, Any] = {
        "type": ["object", "null"] if "?" in shape else "object",
        "properties": {name: schema_of(one, strict) for name, one in keys.items()},
        "required": [name for name in shape if name not in ("*", "?") and not name.endswith("?")],
    }
    if "*" in shape:
        made["additionalProperties"] = schema_of(shape["*"], strict)
    elif strict:
        made["additionalProperties"] = False
    return made


def rows_of(shape: Shape, before: str = "") -> list[tuple[str, str, str]]:
    """Key, type and words of all that a shape holds; shared ones are named."""
    if isinstance(shape, list):
        return rows_of(shape[0], f"{before}[]")
    if isinstance(shape, str) and shape.startswith("$"):
        name = shape[1:].rstrip("?")
        null = " or null" if shape.endswith("?") else ""
        return [(before, f"[{name}](#{name.replace('_', '-')}){null}", "")]
    if isinstance(shape, str):
        kind, _, words = shape.partition(" ")
        return [(before, kind.replace("?", " or null"), words)]
    found = []
    for name, one in shape.items():
        if name == "?":
            continue
        key = name.rstrip("?")
        told = rows_of(one, f"{before}.{key}" if before else key)
        if name.endswith("?"):
            told = [(at, kind, f"{words} Not always there.".strip()) for at, kind, words in told]
        found += told
    return found


def page() -> str:
    """The reference of all documents, in Markdown."""
    lines = [
        "# Documents",
        "",
        "What each command prints with `--json`: one object on standard output. Written by",
        "`python docs/generate.py`; every document that the tests see is held to it. Keys stay;",
        "further ones may be added. `[]` stands for each of a list, `*` for any key. A schema each",
        "is in `schemas/documents`.",
        "",
    ]  # fmt: skip

    def put(level: str, title: str, shape: Shape) -> None:
        lines.extend([f"{level} {title}", "", "| key | is | |", "|---|---|---|"])
        lines.extend(f"| `{at}` | {kind} | {words} |" for at, kind, words in rows_of(shape))
        lines.append("")

    for name, shape in DOCUMENTS.items():
        if isinstance(shape, str):
            lines.extend([f"## {name}", "", f"A [{shape[1:]}](#{shape[1:]}).", ""])
        else:
            put("##", name, shape)
    lines.extend(["## Shapes that several share", ""])
    for name, shape in SHARED.items():
        put("###", name, shape)
    return "\n".join(lines)

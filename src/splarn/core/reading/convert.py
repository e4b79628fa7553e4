"""Text turned into typed values, column by column, and the values that do not fit."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.layout import Field
from splarn.core.layout.fields import BARE, EPOCHS
from splarn.core.reading.notations import DOUBLE_DIGITS, comes_back, decorated_pattern, seconds_of

Mask = Any  # numpy array of bool, one entry a value

_UUID = "^[0-9A-Fa-f]{8}-[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4}-[0-9A-Fa-f]{12}$"


def convert_value(text: str, field: Field) -> Any:
    """One value as a field reads it, a pyarrow.Scalar; None where it does not fit."""
    values, misfit = convert_text(pa.array([text]), field)
    return None if misfit[0] else values[0]


def convert_text(text: Any, field: Field) -> tuple[Any, Mask]:
    """Typed values of a text column, null where they do not fit, and where that is."""
    if isinstance(text, pa.ChunkedArray):
        text = text.combine_chunks()
    if field.is_free_text:
        return text, np.zeros(len(text), dtype=bool)
    if field.is_uuid:
        return _only(text, pc.match_substring_regex(text, _UUID))
    if field.is_json:
        return _only(text, _json_mask(text, dict if field.type == "object" else list))
    if field.has_pattern:
        return _convert_pattern(text, field)
    if field.true_values:
        return _convert_words(text, field)
    if field.is_instant:
        return _convert_instant(text)
    if field.is_epoch:
        return _convert_epoch(text, field)
    if field.is_duration:
        return _convert_duration(text, field)
    if field.type in ("integer", "number"):
        return _convert_number(text, field)
    return _cast_or_bisect(text, field)


# Arrow reads 0x1F as 31, and digits behind a zero as if it were not there; no table should.
_NO_NUMBER = r"^\s*[+-]?0[0-9xX]"
_SIGNS = r"(?:[$€£¥₹%]|USD|EUR|GBP|CHF)"


def _convert_number(text: Any, field: Field) -> tuple[Any, Mask]:
    if not field.is_plain:
        text, misfit = _undecorated(text, field)
        values, others = _convert_number(text, replace(field, **BARE))
        return values, misfit | others
    changed = pc.match_substring_regex(text, _NO_NUMBER).fill_null(False)
    if field.is_decimal:
        # Arrow scales decimals without looking whether 128 bits hold them, and gives another one.
        room = (field.precision or 0) - (field.scale or 0)
        wide = rf"^\s*[+-]?0*[1-9][0-9]{{{room},}}"
        large = pc.match_substring_regex(text, wide).fill_null(False)
        # Nor by how far a power moves them: one of 40 digits comes out as nothing.
        far = pc.match_substring_regex(text, r"[eE][+-]?0*(?:[3-9][0-9]|[0-9]{3,})\s*$")
        changed = pc.or_(changed, pc.or_(large, far.fill_null(False)))
    text, misfit = _only(text, pc.invert(changed))
    if field.type == "number" and not field.is_decimal:
        lossy = _lossy(text)
        if len(lossy):
            misfit[lossy] = True
            text = pc.if_else(pa.array(misfit), pa.scalar(None, text.type), text)
    values, others = _cast_or_bisect(text, field)
    if pa.types.is_floating(values.type) and pc.any(pc.is_inf(values)).as_py():
        # So large a power is no double.
        infinite = np.flatnonzero(pc.is_inf(values).fill_null(False).to_numpy(zero_copy_only=False))
        others[_changed(text, infinite)] = True
        values = pc.if_else(pa.array(others), pa.scalar(None, values.type), values)
    return values, misfit | others


def _lossy(text: Any) -> Any:
    """Positions of numbers that a double would not bring back as they are written."""
    length = pc.utf8_length(text)
    # With one character more than digits are sure to be kept there may be a point or a sign.
    one_more = pc.equal(length, DOUBLE_DIGITS + 1)
    if pc.any(one_more).as_py():
        one_more = pc.and_(one_more, pc.match_substring_regex(text, "^[0-9]+$"))
    long = pc.or_(pc.greater(length, DOUBLE_DIGITS + 1), one_more).fill_null(False)
    return _changed(text, np.flatnonzero(long.to_numpy(zero_copy_only=False)))


def _changed(text: Any, positions: Any) -> Any:
    """Those of some positions whose number a double would not bring back."""
    found = [at for at in positions.tolist() if not comes_back(text[at].as_py().strip())]
    return np.array(found, dtype=np.int64)


def _undecorated(text: Any, field: Field) -> tuple[Any, Mask]:
    """Numbers with other marks and signs as plain ones; what is none becomes null and a misfit."""
    pattern = decorated_pattern(
        field.decimal_char, field.group_char, field.bare_number, field.brackets, field.sign
    )
    text = pc.utf8_trim_whitespace(text)
    text, misfit = _only(text, pc.match_substring_regex(text, f"^(?:{pattern.pattern})$"))
    if field.brackets:
        text = pc.replace_substring_regex(text, r"^\((.*)\)$", r"-\1")
    if not field.bare_number:
        text = pc.replace_substring_regex(text, rf"\s?{_SIGNS}\s?", "")
    text = pc.replace_substring(text, "−", "-")
    if field.group_char:
        text = pc.replace_substring(text, field.group_char, "")
    if field.decimal_char != ".":
        text = pc.replace_substring(text, field.decimal_char, ".")
    return text, misfit


def _convert_instant(text: Any) -> tuple[Any, Mask]:
    """Moments with a zone, in UTC."""
    looks = r"^\s*[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9:.]+(?:Z|[+-][0-9]{2}:?[0-9]{2})\s*$"
    text, misfit = _only(text, pc.match_substring_regex(text, looks))
    values, others = _bisected(
        text, lambda some: some.cast(pa.timestamp("us", "UTC")).cast(pa.timestamp("us")),
        pa.timestamp("us"),
    )  # fmt: skip
    return values, misfit | others


def _convert_duration(text: Any, field: Field) -> tuple[Any, Mask]:
    """Lengths of time as seconds."""
    texts = text.to_pylist()
    values = [None if one is None else seconds_of(one.strip()) for one in texts]
    misfit = np.array(
        [one is not None and value is None for one, value in zip(texts, values, strict=True)],
        dtype=bool,
    )
    shown = pa.array([None if one is None else format(one, "f") for one in values], pa.string())
    values_found, others = _cast_or_bisect(shown, replace(field, format="default"))
    return values_found, misfit | others


def _convert_epoch(text: Any, field: Field) -> tuple[Any, Mask]:
    factor = EPOCHS[field.format]
    values, misfit = _bisected(
        text,
        lambda some: pc.multiply_checked(some.cast(pa.int64()), factor).cast(pa.timestamp("us")),
        pa.timestamp("us"),
    )
    return values, misfit


def _only(text: Any, fits: Any) -> tuple[Any, Mask]:
    misfit = pc.fill_null(pc.invert(fits), False)
    if not pc.any(misfit).as_py():
        return text, np.zeros(len(text), dtype=bool)
    return pc.if_else(misfit, pa.scalar(None, text.type), text), np.asarray(misfit).copy()


def _json_mask(text: Any, kind: type) -> Any:
    def fits(value: str | None) -> bool | None:
        try:
            return None if value is None else isinstance(json.loads(value), kind)
        except ValueError:
            return False

    return pa.array([fits(value) for value in text.to_pylist()], pa.bool_())


def _convert_words(text: Any, field: Field) -> tuple[Any, Mask]:
    yes = pc.is_in(text, pa.array(field.true_values, pa.string()))
    no = pc.is_in(text, pa.array(field.false_values, pa.string()))
    known = pc.or_(yes, no)
    misfit = np.asarray(pc.and_(pc.invert(known), pc.is_valid(text))).copy()
    return pc.if_else(known, yes, pa.scalar(None, pa.bool_())), misfit


# The first day of year 1 and the one after year 9999, in days since 1970.
_FIRST_DAY, _BEHIND = -719_162, 2_932_897


def out_of_years(column: Any) -> Any:
    """Which dates or moments are before year 1 or after year 9999, where many targets end."""
    scale = 1
    if pa.types.is_timestamp(column.type):
        per_second = {"s": 1, "ms": 1_000, "us": 1_000_000, "ns": 1_000_000_000}
        scale = 86_400 * per_second[column.type.unit]
        plain = column.cast(pa.timestamp(column.type.unit)).cast(pa.int64())
    else:
        plain = column.cast(pa.date32()).cast(pa.int32()).cast(pa.int64())
    limit = (1 << 63) - 1
    low, high = max(_FIRST_DAY * scale, -limit), min(_BEHIND * scale, limit)
    return pc.or_(pc.less(plain, low), pc.greater_equal(plain, high))


def without_nan(column: Any) -> Any:
    """Numbers in which what is no number is no value, as all targets have it alike."""
    odd = pc.is_nan(column)
    return pc.if_else(odd, pa.scalar(None, column.type), column) if pc.any(odd).as_py() else column


def _cast(text: Any, field: Field) -> Any:
    values = _typed(text, field)
    if field.type in ("date", "datetime") and pc.any(out_of_years(values)).as_py():
        raise pa.ArrowInvalid("a year that no target can store")
    return without_nan(values) if pa.types.is_floating(values.type) else values


def _typed(text: Any, field: Field) -> Any:
    if field.type == "time":
        # An hour may have one digit.
        text = pc.replace_substring_regex(text, r"^([0-9]:)", r"0\1")
        stamped = pc.binary_join_element_wise("1970-01-01T", text, "")
        return stamped.cast(pa.timestamp("us")).cast(pa.time64("us"))
    return text.cast(field.arrow_type())


# What a value of a type must look like at least; Arrow takes no others.
_LOOKS = {
    "integer": r"^\s*[+-]?[0-9]+\s*$",
    "number": r"^\s*[+-]?([0-9]|\.[0-9]|(?i:inf|nan))",
    "date": r"^\s*[0-9]{4}-[0-9]{2}-[0-9]{2}\s*$",
    "datetime": r"^\s*[0-9]{4}-[0-9]{2}-[0-9]{2}",
    "time": r"^\s*[0-9]{1,2}:[0-9]{2}",
    "boolean": r"^\s*(?i:true|false|0|1)\s*$",
}


def _cast_or_bisect(text: Any, field: Field) -> tuple[Any, Mask]:
    """Casts a column; halves it where that fails, down to the values that are to blame.

    Those that do not even look like one are told at a go, since there may be many.
    """
    misfit = np.zeros(len(text), dtype=bool)
    try:
        return _cast(text, field), misfit
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        pass
    text, misfit = _only(text, pc.match_substring_regex(text, _LOOKS[field.type]))
    values, others = _bisected(text, lambda some: _cast(some, field), field.arrow_type())
    return values, misfit | others


def _bisected(text: Any, cast: Callable[[Any], Any], kind: Any) -> tuple[Any, Mask]:
    """Casts a column, halving it where that fails, down to the values that do not fit."""
    misfit = np.zeros(len(text), dtype=bool)
    pieces: list[Any] = []
    stack = [(0, len(text))]
    while stack:
        start, stop = stack.pop()
        try:
            pieces.append(cast(text.slice(start, stop - start)))
            continue
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            pass
        if stop - start == 1:
            misfit[start] = True
            pieces.append(pa.nulls(1, kind))
        else:
            middle = (start + stop) // 2
            stack.append((middle, stop))
            stack.append((start, middle))
    if not pieces:
        return pa.array([], kind), misfit
    return pa.concat_arrays(pieces), misfit


def _convert_pattern(text: Any, field: Field) -> tuple[Any, Mask]:
    """Dates by a strptime pattern. A day that its month lacks is a misfit, never rolled over."""
    stamps = pc.strptime(text, format=field.format, unit="us", error_is_null=True)
    misfit = pc.and_(pc.is_valid(text), pc.is_null(stamps)).to_numpy(zero_copy_only=False).copy()
    # 31 April comes back as 1 May, so only the first three days of a month can be such a value.
    early = pc.less_equal(pc.day(stamps), 3).fill_null(False)
    for position in _changed_days(text, stamps, early, field.format):
        try:
            datetime.strptime(text[int(position)].as_py(), field.format)
        except ValueError:
            misfit[position] = True
    if misfit.any():
        stamps = pc.if_else(pa.array(misfit), pa.scalar(None, stamps.type), stamps)
    return stamps.cast(pa.timestamp("us")).cast(field.arrow_type(), safe=False), misfit


def _changed_days(text: Any, stamps: Any, early: Any, pattern: str) -> Any:
    """Positions among the `early` ones whose day in the text is not surely the parsed day."""
    candidates = np.flatnonzero(early.to_numpy(zero_copy_only=False))
    place = _day_place(pattern)
    if place is None or not len(candidates):
        return candidates
    start, length = place
    chosen = pa.array(candidates)
    few, days = text.take(chosen), pc.day(stamps.take(chosen))
    shown = pc.utf8_lpad(days.cast(pa.string()), 2, "0")
    same = pc.and_(
        pc.equal(pc.utf8_slice_codeunits(few, start, start + 2), shown),
        pc.equal(pc.utf8_length(few), length),
    )
    return candidates[~same.to_numpy(zero_copy_only=False)]


@lru_cache(maxsize=32)
def _day_place(pattern: str) -> tuple[int, int] | None:
    """Where the day stands and how long the text is, for patterns of fixed width."""
    widths = {"d": 2, "m": 2, "Y": 4, "y": 2, "H": 2, "M": 2, "S": 2}
    pieces = re.findall(r"%(.)|([^%])", pattern)
    if any(directive and directive not in widths for directive, _ in pieces):
        return None
    start, length = None, 0
    for directive, _ in pieces:
        if directive == "d":
            start = length
        length += widths[directive] if directive else 1
    return None if start is None else (start, length)

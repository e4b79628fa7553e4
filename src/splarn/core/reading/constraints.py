"""Values of the right type that a layout's constraints still refuse."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.reading.convert import convert_value


class Constraint:
    """One field's constraints, made ready once; nulls pass, as the standard has it.

    Raises RequestError when a limit is no value of the field's type.
    """

    def __init__(self, field: Field) -> None:
        self.field = field
        self._low = self._value("minimum", field.minimum)
        self._high = self._value("maximum", field.maximum)
        self._enum = None
        if field.enum is not None:
            values = [self._value("enum", text) for text in field.enum]
            self._enum = pa.array(values, field.arrow_type())

    def broken(self, column: Any) -> list[tuple[Any, str]]:
        """Masks of the rows that break a rule (numpy, one entry a row), each with the reason."""
        field = self.field
        rules: list[tuple[Any, str]] = []
        if self._low is not None:
            rules.append((pc.less(column, self._low), f"below the minimum {field.minimum}"))
        if self._high is not None:
            rules.append((pc.greater(column, self._high), f"above the maximum {field.maximum}"))
        if self._enum is not None:
            known = pc.is_in(column, self._enum)
            rules.append((pc.and_(pc.invert(known), pc.is_valid(column)), "not an allowed value"))
        if field.min_length is not None:
            short = pc.less(pc.utf8_length(column), field.min_length)
            rules.append((short, f"shorter than {field.min_length} characters"))
        if field.max_length is not None:
            long = pc.greater(pc.utf8_length(column), field.max_length)
            rules.append((long, f"longer than {field.max_length} characters"))
        if field.pattern is not None:
            fits = pc.match_substring_regex(column, f"^(?:{field.pattern})$")
            rules.append((pc.invert(fits), f"not like the pattern {field.pattern}"))
        return [
            (np.asarray(pc.fill_null(mask, False)), reason)
            for mask, reason in rules
            if pc.any(mask).as_py()
        ]

    def _value(self, what: str, text: str | None) -> Any:
        if text is None:
            return None
        value = convert_value(text, self.field)
        if value is None:
            raise RequestError(
                f"The {what} {text!r} of field {self.field.name!r} is no {self.field.describe()}: "
                "mend the layout."
            )
        return value

"""How one kind of file reads: its dialect and its fields."""

from splarn.core.layout.dialect import LINES, Dialect
from splarn.core.layout.fields import Field, Layout

__all__ = ["LINES", "Dialect", "Field", "Layout"]

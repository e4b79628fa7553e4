"""How one kind of file reads: its dialect and its fields."""

from splarn.core.layout.dialect import Dialect
from splarn.core.layout.fields import Field, Layout

__all__ = ["Dialect", "Field", "Layout"]

"""The survey: what the source files are, and what in them will matter for loading."""

from splarn.core.survey.catalogue import Catalogue, Finding, SourceFile, survey
from splarn.core.survey.intended import Intended

__all__ = ["Catalogue", "Finding", "Intended", "SourceFile", "survey"]

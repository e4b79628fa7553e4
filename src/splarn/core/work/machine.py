"""What machine this is, in a few words that tell it from others without naming it."""

from __future__ import annotations

import os
import platform

from splarn.core.units import show_size
from splarn.version import __version__


def describe_machine() -> str:
    """Cores, memory, system and version: what makes times of another machine other times."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    memory = ""
    if "SC_PHYS_PAGES" in os.sysconf_names:
        memory = f"{show_size(os.sysconf('SC_PHYS_PAGES') * os.sysconf('SC_PAGE_SIZE'))}, "
    system = f"{platform.system()} {platform.machine()}"
    return f"{cores} cores, {memory}{system}, Splarn {__version__}"

"""What a worker is sent by value, so that it answers also where Splarn is not there.

Nothing here may import anything of Splarn at the top, nor call what stands in another module.
"""

from __future__ import annotations

from typing import Any


def look() -> dict[str, Any]:
    """What is installed here, and how much of a machine there is."""
    import hashlib
    import importlib.metadata
    import os
    import platform
    import re
    from pathlib import Path

    told: dict[str, Any] = {"python": platform.python_version(), "splarn": "", "packages": {}}
    told["cores"] = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1
    try:
        from splarn.core import kernel

        told["splarn"] = importlib.metadata.version("splarn")
        told["kernel"] = bool(kernel.available())
        root = Path(kernel.__file__).parents[1]
        state = hashlib.sha256()
        for path in sorted(root.rglob("*.py")):
            state.update(path.relative_to(root).as_posix().encode() + b"\0" + path.read_bytes())
        told["code"] = state.hexdigest()[:16]
        names = {"distributed", "dask"}
        for line in importlib.metadata.requires("splarn") or ():
            if not re.search(r"extra == .(?:test|docs|notebook)", line):
                names.add(re.split(r"[\s<>=!~;\[(]", line, maxsplit=1)[0].lower())
        for name in sorted(names - {"splarn"}):
            try:
                told["packages"][name] = importlib.metadata.version(name)
            except importlib.metadata.PackageNotFoundError:
                told["packages"][name] = ""
    except (ImportError, OSError) as error:
        told["missing"] = str(error)
    return told

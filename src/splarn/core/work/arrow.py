"""Arrow without pandas, which it imports to see whether a value is one of its own."""

from __future__ import annotations

import sys
from contextlib import suppress
from functools import cache
from importlib.abc import MetaPathFinder
from importlib.machinery import ModuleSpec
from importlib.util import find_spec
from typing import Any

ARROW, PANDAS = "pyarrow", "pandas"


def spare_pandas() -> None:
    """Lets this process do without pandas, where it is installed: that takes 0.4 s to import.

    For processes that are Splarn's own: whoever uses Arrow beside it may hand frames over. What
    asks for pandas by itself still gets it.
    """
    if PANDAS in sys.modules:
        return
    if ARROW in sys.modules:
        _settle()
    else:
        sys.meta_path.insert(0, _OnceArrowComes())


def of_numbers(values: Any) -> Any:
    """An Arrow array over the memory of a NumPy array of whole numbers.

    Arrow's own way of making one imports NumPy's masked arrays, which each worker would wait for.
    """
    import pyarrow

    kind = pyarrow.from_numpy_dtype(values.dtype)
    return pyarrow.Array.from_buffers(kind, len(values), [None, pyarrow.py_buffer(values)])


def give_memory_back() -> None:
    """Has Arrow take its memory where what is freed goes back to the machine.

    For processes of Splarn's own that write one thing after another: Arrow's usual allocator would
    hold on to what all of them took.
    """
    import pyarrow

    pyarrow.set_memory_pool(pyarrow.system_memory_pool())


def trim() -> None:
    """Gives memory back to the machine that was freed, where the C library can."""
    with suppress(OSError, AttributeError):
        _library().malloc_trim(0)


@cache
def _library() -> Any:
    from ctypes import CDLL

    return CDLL(None)


def _settle() -> None:
    """Has Arrow look for pandas now, and find none."""
    import pyarrow

    none = _NoPandas()
    sys.meta_path.insert(0, none)
    try:
        pyarrow.array([0])
    finally:
        sys.meta_path.remove(none)


class _NoPandas(MetaPathFinder):
    def find_spec(self, name: str, path: Any, target: Any = None) -> ModuleSpec | None:
        if name == PANDAS:
            raise ModuleNotFoundError(f"{name} is not needed", name=name)
        return None


class _OnceArrowComes(MetaPathFinder):
    """Waits for the import of Arrow, which not every command needs."""

    def find_spec(self, name: str, path: Any, target: Any = None) -> ModuleSpec | None:
        if name != ARROW:
            return None
        sys.meta_path.remove(self)
        spec = find_spec(ARROW)
        if spec is not None and spec.loader is not None:
            run = spec.loader.exec_module

            def then_settle(module: Any) -> None:
                run(module)
                _settle()

            spec.loader.exec_module = then_settle  # type: ignore[method-assign]
        return spec

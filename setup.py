"""The part of the build that pyproject.toml cannot say: a kernel in C that may be left out.

Where no compiler is found Splarn is installed without it, and does the same more slowly.
"""

from setuptools import Extension, setup

SOURCES = ("copied", "crc", "hashes", "leaves", "mixed", "module", "pages", "parse", "rows", "scan")

setup(
    ext_modules=[
        Extension(
            "splarn.core._kernel",
            [f"src/kernel/{name}.c" for name in SOURCES],
            depends=[
                f"src/kernel/{name}.h" for name in ("cells", "columns", "kernel", "text", "values")
            ],
            extra_compile_args=["-O3", "-std=c11", "-Wall"],
            py_limited_api=True,
            optional=True,
        )
    ],
    options={"bdist_wheel": {"py_limited_api": "cp311"}},
)

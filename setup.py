"""Compiles the kernels: ordinary Python files with Cython types."""

import os
import sys

from setuptools import Extension, setup

SIMPLEX = ("markowitz", "lu", "core", "breakpoints", "candidates", "crash", "dual", "primal", "push", "judge", "hot")
INTERIOR = ("ordering", "elimination", "dense", "cholesky", "product")
KERNELS = (
    *(f"ruddock.engine.simplex.{name}" for name in SIMPLEX),
    *(f"ruddock.engine.interior.{name}" for name in INTERIOR),
    "ruddock.engine.first_order.gradient",
    *(f"ruddock.engine.network.{name}" for name in ("structure", "simplex")),
    *(
        f"ruddock.engine.tree.{name}"
        for name in (
            "ranking",
            "sides",
            "jump",
            "mending",
            "exchange",
            "pairs",
            "propagate",
            "vectors",
            "plunge",
            "conflicts",
        )
    ),
    *(f"ruddock.engine.tree.cuts.{name}" for name in ("growth", "rounder", "sums")),
    "ruddock.engine.tree.blocks.knapsack",
    "ruddock.formats.mps.kernel",
)

# without what only a debugger reads: a fifth of the size
FLAGS = ["/O2"] if sys.platform == "win32" else ["-O3", "-g0"]


def extensions():
    """Return the compiled kernels, or none when RUDDOCK_INTERPRETED asks for plain Python."""
    if os.environ.get("RUDDOCK_INTERPRETED"):
        return []
    from Cython.Build import cythonize

    modules = [
        Extension(name, [f"src/{name.replace('.', '/')}.py"], extra_compile_args=FLAGS, optional=True)
        for name in KERNELS
    ]
    return cythonize(modules, include_path=["src"], build_dir="build/cython")


setup(ext_modules=extensions(), options={"build_ext": {"parallel": os.cpu_count() or 1}})

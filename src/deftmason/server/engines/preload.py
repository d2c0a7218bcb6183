"""What every engine holds from its first moment: loaded once in the process engines are forked from, and shared by all
of them.

Compiled functions are taken from the disk here too. Those that run on several cores are left to the engines: a process
that has started its
threads may not be forked.
"""

from __future__ import annotations

import contextlib
import importlib
import pkgutil
import sys

import deftmason.core
from deftmason.core.recipe.parse import kinds

from . import child, work  # noqa: F401

_LATER = ("deftmason.core.recipe", "deftmason.core.deliver")  # light, or loaded above


def _load() -> None:
    kinds()
    for module in pkgutil.walk_packages(deftmason.core.__path__, "deftmason.core."):
        if not module.name.startswith(_LATER):
            importlib.import_module(module.name)
    for name in (
        "scipy.spatial",
        "scipy.sparse.csgraph",
        "scipy.optimize",
        "scipy.sparse.linalg",
        "shapely",
        "fast_simplification",
        "PIL.Image",
    ):
        importlib.import_module(name)


def _take_compiled() -> None:
    """Functions compiled before, for the types they were compiled for."""
    from numba.core.registry import CPUDispatcher

    ours = [m for n, m in list(sys.modules.items()) if n.startswith("deftmason.core")]
    found = {
        f
        for m in ours
        for f in vars(m).values()
        if isinstance(f, CPUDispatcher) and not f.targetoptions.get("parallel")
    }
    for function in found:
        # Where the library keeps its list of them may change: then they are taken when they are first called.
        with contextlib.suppress(Exception):
            for signature, *_ in function._cache._cache_file._load_index():
                function.compile(signature)


_load()
_take_compiled()

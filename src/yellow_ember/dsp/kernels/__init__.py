"""Compiled sample loops.

The public functions of `dsp` check and allocate; a kernel only loops.  All of them
take C-contiguous float64 arrays, release the interpreter lock and are cached on disk.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar, cast

import numba
from numba.core.ccallback import CFunc
from numba.core.sigutils import normalize_signature
from numba.np import linalg

from yellow_ember.dsp.kernels._cache import KernelCache

Kernel = TypeVar("Kernel", bound=Callable[..., Any])
_MAY_FUSE: Mapping[str, Any] = {"fastmath": {"contract"}, "error_model": "numpy"}
"""How all is compiled: multiply and add may fuse, and a division by zero gives infinity."""


def _no_blas() -> None:
    raise ImportError("no kernel needs linear algebra")


linalg.ensure_blas = _no_blas
"""Numba looks for SciPy's as soon as anything is compiled or loaded, and SciPy takes a third of a second to come."""


def kernel(function: Kernel) -> Kernel:
    """Compile a sample loop.

    Multiply and add may fuse, which lets loops over samples vectorise without
    reordering sums: results do not depend on how the input is cut into blocks.
    """
    return _compiled(function, _MAY_FUSE)


def inlined(function: Kernel) -> Kernel:
    """Compile a part of a larger kernel within whatever calls it, and not by itself."""
    inline: Callable[[Kernel], Any] = numba.njit(nogil=True, inline="always", **_MAY_FUSE)
    return cast(Kernel, inline(function))


def summing_kernel(function: Kernel) -> Kernel:
    """Compile a sum of fixed length that makes one sample; its terms may be added in any one order."""
    return _compiled(function, {**_MAY_FUSE, "fastmath": {"contract", "reassoc"}})


def compiled_callback(function: Callable[..., None], signature: Any, name: str) -> Any:
    """Compile a function, or load it, that other compiled code calls by its address; `name` is its own in the cache."""
    compiled: Any = CFunc(function, normalize_signature(signature), {}, dict(_MAY_FUSE))
    compiled._cache = KernelCache(function, name)
    compiled.compile()
    return compiled


def _compiled(function: Kernel, options: Mapping[str, Any]) -> Kernel:
    compile_it: Callable[[Kernel], Any] = numba.njit(nogil=True, **options)
    compiled: Any = compile_it(function)
    compiled._cache = KernelCache(function)
    return cast(Kernel, compiled)

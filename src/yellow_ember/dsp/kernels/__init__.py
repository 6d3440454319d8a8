"""Compiled sample loops.

The public functions of `dsp` check and allocate; a kernel only loops.  All of them
take C-contiguous float64 arrays, release the interpreter lock and are cached on disk.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numba

from yellow_ember.dsp.kernels._cache import KernelCache

Kernel = TypeVar("Kernel", bound=Callable[..., Any])


def kernel(function: Kernel) -> Kernel:
    """Compile a sample loop.

    Multiply and add may fuse, which lets loops over samples vectorise without
    reordering sums: results do not depend on how the input is cut into blocks.
    """
    return _compiled(function, {"contract"})


def summing_kernel(function: Kernel) -> Kernel:
    """Compile a sum of fixed length that makes one sample; its terms may be added in any one order."""
    return _compiled(function, {"contract", "reassoc"})


def _compiled(function: Kernel, freedom: set[str]) -> Kernel:
    compile_it: Callable[[Kernel], Any] = numba.njit(nogil=True, fastmath=freedom, error_model="numpy")
    compiled: Any = compile_it(function)
    compiled._cache = KernelCache(function)
    return cast(Kernel, compiled)

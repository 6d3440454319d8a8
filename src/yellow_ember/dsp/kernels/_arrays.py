"""Arrays in compiled code, made of where they lie; imported only where kernels are compiled."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import carray, types  # type: ignore[attr-defined]
from numba.core import cgutils
from numba.extending import intrinsic, overload

from yellow_ember.dsp.arrays import block_view


def _to_pointer(typing_context: Any, address: Any) -> Any:
    """An address as a pointer that `carray` takes."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.inttoptr(arguments[0], cgutils.voidptr_t)

    return types.voidptr(types.int64), generate


pointer_to: Any = intrinsic(_to_pointer)


@overload(block_view)
def _block_view(store: Any, channels: Any, frames: Any) -> Any:
    def implementation(store: Any, channels: Any, frames: Any) -> Any:
        return carray(pointer_to(store.ctypes.data), (channels, frames), np.float64)

    return implementation

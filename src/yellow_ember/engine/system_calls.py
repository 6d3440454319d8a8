"""What compiled code asks of the system, and what threads need to share memory: reading, semaphores, atomic words."""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

_WORD = types.int64
_INT = types.int32

pread: Any = types.ExternalFunction("pread", _WORD(_INT, _WORD, _WORD, _WORD))
"""POSIX: file, address, bytes, offset -> bytes read, or -1."""
posix_fadvise: Any = types.ExternalFunction("posix_fadvise", _INT(_INT, _WORD, _WORD, _INT))
"""POSIX: file, offset, bytes, advice."""
statx: Any = types.ExternalFunction("statx", _INT(_INT, _WORD, _INT, types.uint32, _WORD))
"""Linux: directory or file, address of a name, flags, mask, address of the result -> 0, or -1."""
sem_init: Any = types.ExternalFunction("sem_init", _INT(_WORD, _INT, types.uint32))
"""POSIX: address, shared between processes, value."""
sem_wait: Any = types.ExternalFunction("sem_wait", _INT(_WORD))
sem_post: Any = types.ExternalFunction("sem_post", _INT(_WORD))
sched_yield: Any = types.ExternalFunction("sched_yield", _INT())

SEMAPHORE_WORDS = 4
"""What a semaphore takes, in words of eight bytes."""


def _load(typing_context: Any, address: Any) -> Any:
    """Read a word that other threads write."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.load_atomic(_pointer(builder, arguments[0]), "seq_cst", 8)

    return types.int64(types.int64), generate


def _store(typing_context: Any, address: Any, value: Any) -> Any:
    """Write a word that other threads read."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        builder.store_atomic(arguments[1], _pointer(builder, arguments[0]), "seq_cst", 8)
        return context.get_dummy_value()

    return types.void(types.int64, types.int64), generate


def _add(typing_context: Any, address: Any, value: Any) -> Any:
    """Add to a word that several threads add to; its value before."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.atomic_rmw("add", _pointer(builder, arguments[0]), arguments[1], "seq_cst")

    return types.int64(types.int64, types.int64), generate


def _pointer(builder: Any, address: Any) -> Any:
    return builder.inttoptr(address, ir.IntType(64).as_pointer())


load: Any = intrinsic(_load)
store: Any = intrinsic(_store)
fetch_add: Any = intrinsic(_add)

"""What the functions of `system_calls` become in compiled code; imported only where kernels are compiled."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic, overload

from yellow_ember.engine import system_calls

_WORD = types.int64
_INT = types.int32

_pread: Any = types.ExternalFunction("pread", _WORD(_INT, _WORD, _WORD, _WORD))
_posix_fadvise: Any = types.ExternalFunction("posix_fadvise", _INT(_INT, _WORD, _WORD, _INT))
_statx: Any = types.ExternalFunction("statx", _INT(_INT, _WORD, _INT, types.uint32, _WORD))
_sem_init: Any = types.ExternalFunction("sem_init", _INT(_WORD, _INT, types.uint32))
_sem_wait: Any = types.ExternalFunction("sem_wait", _INT(_WORD))
_sem_post: Any = types.ExternalFunction("sem_post", _INT(_WORD))
_sched_yield: Any = types.ExternalFunction("sched_yield", _INT())


def _to_load(typing_context: Any, address: Any) -> Any:
    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.load_atomic(_pointer(builder, arguments[0]), "seq_cst", 8)

    return _WORD(_WORD), generate


def _to_store(typing_context: Any, address: Any, value: Any) -> Any:
    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        builder.store_atomic(arguments[1], _pointer(builder, arguments[0]), "seq_cst", 8)
        return context.get_dummy_value()

    return types.void(_WORD, _WORD), generate


def _to_add(typing_context: Any, address: Any, value: Any) -> Any:
    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.atomic_rmw("add", _pointer(builder, arguments[0]), arguments[1], "seq_cst")

    return _WORD(_WORD, _WORD), generate


def _pointer(builder: Any, address: Any) -> Any:
    return builder.inttoptr(address, ir.IntType(64).as_pointer())


_load: Any = intrinsic(_to_load)
_store: Any = intrinsic(_to_store)
_fetch_add: Any = intrinsic(_to_add)


@overload(system_calls.pread, strict=False)
def _pread_of(file: Any, address: Any, count: Any, offset: Any) -> Callable[..., Any]:
    return lambda file, address, count, offset: _pread(file, address, count, offset)


@overload(system_calls.posix_fadvise, strict=False)
def _posix_fadvise_of(file: Any, offset: Any, count: Any, advice: Any) -> Callable[..., Any]:
    return lambda file, offset, count, advice: _posix_fadvise(file, offset, count, advice)


@overload(system_calls.statx, strict=False)
def _statx_of(directory: Any, name: Any, flags: Any, mask: Any, result: Any) -> Callable[..., Any]:
    return lambda directory, name, flags, mask, result: _statx(directory, name, flags, mask, result)


@overload(system_calls.sem_init, strict=False)
def _sem_init_of(address: Any, shared: Any, value: Any) -> Callable[..., Any]:
    return lambda address, shared, value: _sem_init(address, shared, value)


@overload(system_calls.sem_wait, strict=False)
def _sem_wait_of(address: Any) -> Callable[..., Any]:
    return lambda address: _sem_wait(address)


@overload(system_calls.sem_post, strict=False)
def _sem_post_of(address: Any) -> Callable[..., Any]:
    return lambda address: _sem_post(address)


@overload(system_calls.sched_yield, strict=False)
def _sched_yield_of() -> Callable[..., Any]:
    return lambda: _sched_yield()


@overload(system_calls.load, strict=False)
def _load_of(address: Any) -> Callable[..., Any]:
    return lambda address: _load(address)


@overload(system_calls.store, strict=False)
def _store_of(address: Any, value: Any) -> Callable[..., Any]:
    return lambda address, value: _store(address, value)


@overload(system_calls.fetch_add, strict=False)
def _fetch_add_of(address: Any, value: Any) -> Callable[..., Any]:
    return lambda address, value: _fetch_add(address, value)

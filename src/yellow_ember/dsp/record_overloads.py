"""What the functions of `record` become in compiled code; imported only where kernels are compiled."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from llvmlite import ir
from numba import carray, types  # type: ignore[attr-defined]
from numba.extending import intrinsic, overload

from yellow_ember.dsp.kernels._arrays import pointer_to
from yellow_ember.dsp.record import (
    WORD,
    address_of,
    array_4d,
    array_5d,
    block_at,
    block_in,
    block_of,
    call_at,
    cube,
    cube_of,
    matrix,
    record_at,
    singles_of,
    vector,
    whole_matrix,
    whole_vector,
)


@overload(record_at)
def _record_at(address: Any, dtype: Any) -> Any:
    def implementation(address: Any, dtype: Any) -> Any:
        return carray(pointer_to(address), 1, dtype)[0]

    return implementation


@overload(block_at)
def _block_at(address: Any, channels: Any, frames: Any) -> Any:
    def implementation(address: Any, channels: Any, frames: Any) -> Any:
        return carray(pointer_to(address), (channels, frames), np.float64)

    return implementation


def _declare_arrays(as_vector: Callable[[Any], Any], as_matrix: Callable[[Any], Any], dtype: Any) -> None:
    """Say what becomes of a field's array of one dimension, and of two, of a type of number."""

    @overload(as_vector)
    def _vector(field: Any) -> Any:
        def implementation(field: Any) -> Any:
            return carray(pointer_to(field.address), field.size0, dtype)

        return implementation

    @overload(as_matrix)
    def _matrix(field: Any) -> Any:
        def implementation(field: Any) -> Any:
            return carray(pointer_to(field.address), (field.size0, field.size1), dtype)

        return implementation


_declare_arrays(vector, matrix, np.float64)
_declare_arrays(whole_vector, whole_matrix, np.int64)


@overload(cube)
def _cube(field: Any) -> Any:
    def implementation(field: Any) -> Any:
        return carray(pointer_to(field.address), (field.size0, field.size1, field.size2), np.float64)

    return implementation


@overload(array_4d)
def _array_4d(field: Any) -> Any:
    def implementation(field: Any) -> Any:
        shape = (field.size0, field.size1, field.size2, field.size3)
        return carray(pointer_to(field.address), shape, np.float64)

    return implementation


@overload(array_5d)
def _array_5d(field: Any) -> Any:
    def implementation(field: Any) -> Any:
        shape = (field.size0, field.size1, field.size2, field.size3, field.size4)
        return carray(pointer_to(field.address), shape, np.float64)

    return implementation


@overload(block_of)
def _block_of(field: Any, channels: Any, frames: Any) -> Any:
    def implementation(field: Any, channels: Any, frames: Any) -> Any:
        return carray(pointer_to(field.address), (channels, frames), np.float64)

    return implementation


@overload(cube_of)
def _cube_of(field: Any, planes: Any, rows: Any, columns: Any) -> Any:
    def implementation(field: Any, planes: Any, rows: Any, columns: Any) -> Any:
        return carray(pointer_to(field.address), (planes, rows, columns), np.float64)

    return implementation


@overload(block_in)
def _block_in(field: Any, row: Any, channels: Any, frames: Any) -> Any:
    def implementation(field: Any, row: Any, channels: Any, frames: Any) -> Any:
        return carray(pointer_to(field.address + WORD * row * field.size1), (channels, frames), np.float64)

    return implementation


@overload(address_of)
def _address_of(field: Any) -> Any:
    def implementation(field: Any) -> Any:
        return field.address

    return implementation


@overload(singles_of)
def _singles_of(field: Any, rows: Any, columns: Any) -> Any:
    def implementation(field: Any, rows: Any, columns: Any) -> Any:
        return carray(pointer_to(field.address), (rows, columns), np.float32)

    return implementation


def _call(typing_context: Any, function: Any, record: Any, block: Any, channels: Any, frames: Any) -> Any:
    """Call a compiled stage by its address."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        word = ir.IntType(64)
        stage = ir.FunctionType(ir.VoidType(), [word] * 4)
        builder.call(builder.inttoptr(arguments[0], stage.as_pointer()), list(arguments[1:]))
        return context.get_dummy_value()

    return types.void(*[types.int64] * 5), generate


_call_stage: Any = intrinsic(_call)


@overload(call_at)
def _call_at(function: Any, record: Any, block: Any, channels: Any, frames: Any) -> Any:
    def implementation(function: Any, record: Any, block: Any, channels: Any, frames: Any) -> Any:
        _call_stage(function, record, block, channels, frames)

    return implementation

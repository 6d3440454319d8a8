"""Compiled sample loops.

The public functions of `dsp` check and allocate; a kernel only loops.  Kernels take numbers and C-contiguous arrays,
release the interpreter lock, and neither allocate nor raise.

A kernel's machine code is kept on disk and loaded by LLVM alone: Numba, which compiles it, takes longer to come than
all that is loaded, and is imported only where something has yet to be compiled.
"""

from __future__ import annotations

import ctypes
import functools
import os
import sys
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar, cast

import numpy as np

from yellow_ember.dsp.kernels import _disk, _machine_code

Function = TypeVar("Function", bound=Callable[..., Any])

PLAIN = os.environ.get("YELLOW_EMBER_PLAIN_KERNELS") == "1"
"""Kernels are run by the interpreter, so that they can be followed in a debugger."""

_MAY_FUSE: Mapping[str, Any] = {"fastmath": {"contract"}, "error_model": "numpy"}
"""How all is compiled: multiply and add may fuse, and a division by zero gives infinity."""
_RETURNS: Mapping[str, Any] = {"": None, "i": ctypes.c_int64, "f": ctypes.c_double, "b": ctypes.c_bool}

overload_modules: set[str] = set()
"""Modules that tell Numba what functions become that compiled code alone can run; imported before anything compiles."""


@dataclass(frozen=True, slots=True)
class MachineCode:
    """A compiled kernel, for arguments of one set of kinds.

    Attributes
    ----------
    symbol : str
        What its entry is called in the object code.
    returns : str
        The kind of its result, empty for none.
    object_code : bytes
        ELF, with all that it calls.
    """

    symbol: str
    returns: str
    object_code: bytes


class Kernel:
    """A sample loop.  Python runs its machine code; kernels that call it are compiled with it.

    What it is given is told apart by kind: `i`, `f` and `b` are a whole number, a real one and a truth value, and an
    array is its type's letter and the number of its dimensions (`d2`: float64, two of them).

    Parameters
    ----------
    options
        How Numba compiles it.
    name : str | None
        What it is called on disk, if not after the function.
    wide : bool
        Its loops are long enough for the widest vectors that the processor has.
    """

    def __init__(self, function: Callable[..., Any], options: Mapping[str, Any], name: str | None = None, *,
                 wide: bool = False) -> None:
        functools.update_wrapper(self, function)
        self.py_func, self.targetoptions, self.wide = function, options, wide
        self.name = name or f"{function.__module__.partition('.')[2]}.{function.__qualname__}"
        # What lies on disk is named by the sources of this package, which say nothing of others.
        self._is_kept = function.__module__.startswith(__name__.partition(".")[0] + ".")
        self._entries: dict[str, Callable[..., Any]] = {}

    def __call__(self, *arguments: Any) -> Any:
        """Run it.

        Raises
        ------
        TypeError
            An argument is neither a number nor a contiguous array.
        """
        kinds: list[str] = []
        words: list[float] = []
        for argument in arguments:
            if isinstance(argument, np.ndarray):
                if not argument.flags.c_contiguous:
                    raise TypeError(f"{self.name} takes contiguous arrays")
                kinds.append(f"{argument.dtype.char}{argument.ndim}")
                words.append(argument.ctypes.data)
                words.extend(argument.shape)
            elif isinstance(argument, (bool, np.bool_)):
                kinds.append("b")
                words.append(int(argument))
            elif isinstance(argument, (int, np.integer)):
                kinds.append("i")
                words.append(int(argument))
            elif isinstance(argument, (float, np.floating)):
                kinds.append("f")
                words.append(float(argument))
            else:
                raise TypeError(f"{self.name} takes numbers and arrays, not {type(argument).__name__}")
        key = ",".join(kinds)
        entry = self._entries.get(key)
        return (entry or self._load(key))(*words)

    def address(self, kinds: str) -> int:
        """Where its machine code lies for arguments of these kinds, for compiled code to call."""
        return ctypes.cast(cast(Any, self._entries.get(kinds) or self._load(kinds)), ctypes.c_void_p).value or 0

    def _load(self, kinds: str) -> Callable[..., Any]:
        with _loading:
            code = _disk.read(self.name, kinds) if self._is_kept else None
            if code is None:
                # Numba takes half a second to come, and is hardly ever needed.
                from yellow_ember.dsp.kernels import _compiler

                code = _compiler.compile_kernel(self, kinds)
                if self._is_kept:
                    _disk.write(self.name, kinds, code)
            prototype = ctypes.CFUNCTYPE(_RETURNS[code.returns], *_c_types(kinds))
            entry = cast(Callable[..., Any], prototype(_machine_code.load(code.object_code, code.symbol)))
            self._entries[kinds] = entry
            return entry

    @property
    def _numba_type_(self) -> Any:
        """By this Numba knows what to compile where another kernel calls this one."""
        from yellow_ember.dsp.kernels import _compiler

        return _compiler.dispatcher(self)._numba_type_


_loading = threading.RLock()


def _c_types(kinds: str) -> list[Any]:
    """What an entry for arguments of these kinds takes: of an array, where it lies and its sizes."""
    result: list[Any] = []
    for kind in kinds.split(",") if kinds else ():
        sizes = int(kind[1:] or 0)
        result += [ctypes.c_double if kind == "f" else ctypes.c_int64, *[ctypes.c_int64] * sizes]
    return result


def has_compiled() -> bool:
    """Whether something had to be compiled in this process."""
    return f"{__name__}._compiler" in sys.modules


def kernel(function: Function) -> Function:
    """Compile a sample loop.

    Multiply and add may fuse, which lets loops over samples vectorise without
    reordering sums: results do not depend on how the input is cut into blocks.
    """
    return _compiled(function, _MAY_FUSE)


def inlined(function: Function) -> Function:
    """Compile a part of a larger kernel within whatever calls it, and not by itself."""
    return _compiled(function, {**_MAY_FUSE, "inline": "always"})


def summing_kernel(function: Function) -> Function:
    """Compile a sum of fixed length that makes one sample; its terms may be added in any one order."""
    return _compiled(function, {**_MAY_FUSE, "fastmath": {"contract", "reassoc"}})


def _compiled(function: Function, options: Mapping[str, Any]) -> Function:
    return function if PLAIN else cast(Function, Kernel(function, options))


def address_of_kernel(function: Callable[..., None], kinds: str, name: str, *, wide: bool = False) -> int:
    """Compile a function, or load it, that other compiled code calls by its address; else as `Kernel`."""
    return Kernel(function, _MAY_FUSE, name, wide=wide).address(kinds)

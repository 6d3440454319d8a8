"""Kernels compiled by Numba; imported only where one is not on disk."""

from __future__ import annotations

import ctypes
import functools
import importlib
import weakref
from collections.abc import Callable
from typing import Any

import numba
import numpy as np
from llvmlite import binding as llvm
from numba import _dynfunc, carray  # type: ignore[attr-defined]
from numba.core import types
from numba.core.ccallback import CFunc
from numba.core.codegen import CPUCodeLibrary
from numba.core.compiler_lock import global_compiler_lock
from numba.core.registry import cpu_target
from numba.np import linalg

from yellow_ember.dsp.kernels import Kernel, MachineCode, _machine_code, overload_modules
from yellow_ember.dsp.kernels._arrays import pointer_to

_ARRAYS = {"d": "float64", "f": "float32", "l": "int64", "?": "bool_"}
"""NumPy's types by their letters."""
_NUMBERS = {"i": types.int64, "f": types.float64, "b": types.boolean}
_HARDEST = 3
"""How hard LLVM tries."""
_RESULTS = {types.none: "", types.int64: "i", types.float64: "f", types.boolean: "b"}


def _no_blas() -> None:
    raise ImportError("no kernel needs linear algebra")


linalg.ensure_blas = _no_blas
"""Numba looks for SciPy's as soon as anything is compiled, and SciPy takes a third of a second to come."""


class _Library(CPUCodeLibrary):
    """Functions compiled to be linked into what calls them; machine code is made of entries alone."""

    def _finalize_final_module(self) -> None:
        self._finalize_dynamic_globals()
        self._finalized = True

    def _finalize_specific(self) -> None:
        """Nothing runs in this process."""

    def object_code(self, entry: str) -> bytes:
        """The function of that name as ELF, with all that it calls.

        Raises
        ------
        TypeError
            It calls what is nowhere without Numba, as to allocate an array.
        """
        self._ensure_finalized()
        module = self._final_module
        for function in module.functions:
            if not function.is_declaration and function.name != entry:
                function.linkage = "internal"
        # Once more, now that what one caller alone calls may become part of it.
        self._optimize_final_module()
        passes = llvm.create_new_module_pass_manager()
        passes.add_global_dead_code_eliminate_pass()
        passes.add_strip_dead_prototype_pass()
        passes.run(module, llvm.create_pass_builder(self._codegen._tm, llvm.create_pipeline_tuning_options()))
        system = ctypes.CDLL(None)
        for function in module.functions:
            name = function.name
            if (function.is_declaration and not name.startswith("llvm.") and name not in _machine_code.NEVER_CALLED
                    and not hasattr(system, name)):
                raise TypeError(f"{name} is nowhere without Numba")
        return bytes(self._codegen._tm.emit_object(module))


class _Width:
    """How wide the vectors may be in what is compiled, and all that was compiled for that.

    LLVM leaves a processor's 512-bit vectors alone, since few of them cost more in clock rate than they save.
    """

    def __init__(self, *, wide: bool) -> None:
        self._wide = wide
        self._dispatchers: weakref.WeakKeyDictionary[Kernel, Any] = weakref.WeakKeyDictionary()

    def dispatcher(self, kernel: Kernel) -> Any:
        made = self._dispatchers.get(kernel)
        if made is None:
            decorator: Any = numba.njit
            made = decorator(no_cpython_wrapper=True, no_cfunc_wrapper=True, **kernel.targetoptions)(kernel.py_func)
            self._dispatchers[kernel] = made
        return made

    @functools.cached_property
    def machine(self) -> Any:
        """What LLVM compiles for."""
        codegen: Any = cpu_target.target_context.codegen()
        options: dict[str, Any] = {"opt": _HARDEST}
        codegen._customize_tm_options(options)
        if self._wide and "+avx512f" in options["features"]:
            options["features"] += ",-prefer-256-bit"
        return llvm.Target.from_triple(llvm.get_process_triple()).create_target_machine(**options)


_NARROW, _WIDE = _Width(wide=False), _Width(wide=True)
_width = _NARROW
"""Of what is being compiled, which is one kernel at a time."""


def dispatcher(kernel: Kernel) -> Any:
    """What Numba takes a kernel for where another one calls it."""
    return _width.dispatcher(kernel)


@global_compiler_lock
def compile_kernel(kernel: Kernel, kinds: str) -> MachineCode:
    """Compile a kernel for arguments of these kinds (see `Kernel`).

    Raises
    ------
    TypeError
        It allocates, or returns what is no number.
    """
    global _width
    _prepare()
    _width = _WIDE if kernel.wide else _NARROW
    codegen: Any = cpu_target.target_context.codegen()
    codegen._tm = _width.machine
    takes = [_numba_type(kind) for kind in kinds.split(",")] if kinds else []
    inner = dispatcher(kernel)
    inner.compile(tuple(takes))
    result = inner.overloads[tuple(takes)].signature.return_type
    if result not in _RESULTS:
        raise TypeError(f"{kernel.name} returns {result}; only numbers can be returned")
    entry, sizes = _entry(inner, kinds)
    callback: Any = CFunc(entry, (sizes, result), {}, {"error_model": "numpy"})
    compiled = callback._compile_uncached()
    symbol = compiled.fndesc.llvm_cfunc_wrapper_name
    try:
        return MachineCode(symbol, _RESULTS[result], compiled.library.object_code(symbol))
    except TypeError as error:
        raise TypeError(f"{kernel.name} allocates, or copies one array into another as a whole: {error}") from error


def _prepare() -> None:
    """Have Numba make libraries that are linked and not run: nothing runs in this process but what is loaded."""
    for module in overload_modules:
        importlib.import_module(module)
    context: Any = cpu_target.target_context
    context.codegen()._library_class = _Library
    context.get_executable = _executable


def _executable(library: Any, descriptor: Any, environment: Any) -> Any:
    """What Numba tells a compiled function from others by: what Python would call, but leads nowhere."""
    return _dynfunc.make_function(descriptor.lookup_module(), descriptor.qualname, "", 0, environment, (library,))


def _numba_type(kind: str) -> Any:
    if kind in _NUMBERS:
        return _NUMBERS[kind]
    return types.Array(numba.from_dtype(np.dtype(kind[0])), int(kind[1:]), "C")


def _entry(inner: Any, kinds: str) -> tuple[Callable[..., Any], tuple[Any, ...]]:
    """A function of numbers alone that calls a kernel: of an array it takes where it lies, and its sizes.

    Returns
    -------
    function
    types
        Of its arguments.
    """
    names: list[str] = []
    values: list[str] = []
    takes: list[Any] = []
    for place, kind in enumerate(kinds.split(",") if kinds else ()):
        name = f"a{place}"
        sizes = [f"{name}_{axis}" for axis in range(int(kind[1:] or 0))]
        names += [name, *sizes]
        takes += [types.float64 if kind == "f" else types.int64, *[types.int64] * len(sizes)]
        if sizes:
            values.append(f"carray(pointer_to({name}), ({', '.join(sizes)},), {_ARRAYS[kind[0]]})")
        else:
            values.append(f"{name} != 0" if kind == "b" else name)
    scope: dict[str, Any] = {"carray": carray, "pointer_to": pointer_to, "inner": inner,
                             **{name: getattr(np, name) for name in _ARRAYS.values()}}
    exec(f"def entry({', '.join(names)}): return inner({', '.join(values)})", scope)
    return scope["entry"], tuple(takes)

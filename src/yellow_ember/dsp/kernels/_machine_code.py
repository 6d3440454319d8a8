"""Object code made ready to run, by LLVM and without Numba."""

from __future__ import annotations

import ctypes
import functools
from typing import Any

from llvmlite import binding as llvm

NEVER_CALLED = ("numba_gil_ensure", "numba_gil_release", "numba_do_raise", "numba_unpickle",
                "numba_runtime_build_excinfo_struct", "NRT_Free", "NRT_MemInfo_call_dtor")
"""What of Numba's run-time library object code names for the case that a kernel raises, or frees what it allocated.

No kernel does either; should one ever, the process ends there.
"""

_engines: list[Any] = []
"""What holds the code; it is there for as long as the process is."""


@functools.cache
def _machine() -> Any:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    ending = ctypes.cast(ctypes.CDLL(None).abort, ctypes.c_void_p).value
    for name in NEVER_CALLED:
        llvm.add_symbol(name, ending)
    return llvm.Target.from_default_triple().create_target_machine()


def load(object_code: bytes, symbol: str) -> int:
    """Return where a function of ELF object code lies, now that it can be called.

    Each has an engine of its own: what two of them call by the same name need not be the same.
    """
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), _machine())
    engine.add_object_file(llvm.ObjectFileRef.from_data(object_code))
    engine.finalize_object()
    _engines.append(engine)
    return int(engine.get_function_address(symbol))


@functools.cache
def processor() -> str:
    """What code is compiled for: the processor and what it can do."""
    return f"{llvm.get_process_triple()} {llvm.get_host_cpu_name()} {llvm.get_host_cpu_features().flatten()}"

"""Compiled kernels kept on disk: beside their sources where those may be written, else in the user's cache.

Numba's own cache trusts what it finds and gives up where it can't write.  Here every file carries a checksum, a
damaged or missing one is compiled again without a word, and the files are named by all kernels' sources, since a
kernel changes with those that it calls in other files.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import os
import pickle
import secrets
import shutil
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
from numba.core.caching import CompileResultCacheImpl, FunctionCache
from numba.core.serialize import dumps

from yellow_ember.folders import Base, folder, is_writable

_HERE = Path(__file__).parent
_PREFIX = "kernels-"
_DIGEST_BYTES = 32


@functools.cache
def _version() -> str:
    """A name for all compiled code as it is, with what compiles it."""
    digest = hashlib.sha256(f"{numba.__version__} {sys.version}".encode())
    package = _HERE.parent.parent
    for source in sorted([*(package / "dsp").rglob("*.py"), *(package / "engine").glob("*.py")]):
        digest.update(source.read_bytes())
    return _PREFIX + digest.hexdigest()[:16]


@functools.cache
def _beside_sources() -> Path:
    return _HERE / "__pycache__" / _version()


@functools.cache
def _writable() -> Path | None:
    """Where new kernels are kept; None where nothing can be written, and they live as long as the process."""
    beside = _beside_sources()
    if is_writable(beside):
        return beside
    try:
        return folder(Base.CACHE, _version())
    except OSError:
        return None


class _Impl(CompileResultCacheImpl):
    """How a compiled kernel becomes bytes; where they lie is decided here and not by Numba's locators."""

    def __init__(self, name: str) -> None:
        self._filename_base = name


class KernelCache(FunctionCache):
    """The cache of one kernel, in place of the one that `numba.njit(cache=True)` makes."""

    def __init__(self, function: Callable[..., Any], name: str | None = None) -> None:
        self._name = repr(function)
        self._py_func = function
        self._impl = _Impl(name or f"{function.__module__.rpartition('.')[2]}.{function.__qualname__}")
        self.enable()

    def _index_key(self, sig: Any, codegen: Any) -> Any:
        # All sources are in the folder's name; Numba's own key would have a closure's cells, which differ each time.
        return sig, codegen.magic_tuple()

    def _file_name(self, key: object) -> str:
        return f"{self._impl.filename_base}-{hashlib.sha256(repr(key).encode()).hexdigest()[:24]}"

    def _load_overload(self, sig: Any, target_context: Any) -> Any:
        name = self._file_name(self._index_key(sig, target_context.codegen()))
        for directory in dict.fromkeys((_beside_sources(), _writable())):
            data = None if directory is None else _read(directory / name)
            if data is not None:
                return self._impl.rebuild(target_context, data)
        return None

    def _save_overload(self, sig: Any, data: Any) -> None:
        directory = _writable()
        if directory is None or not self._impl.check_cachable(data):
            return
        name = self._file_name(self._index_key(sig, data.codegen))
        _forget_others(directory)
        # A full disk costs the next start some seconds, and nothing now.
        with contextlib.suppress(OSError):
            _write(directory / name, dumps(self._impl.reduce(data)))


def _read(path: Path) -> Any:
    """What was kept there; None where it is not there, or not as it was written."""
    try:
        content = path.read_bytes()
    except OSError:
        return None
    digest, data = content[:_DIGEST_BYTES], content[_DIGEST_BYTES:]
    return pickle.loads(data) if hashlib.sha256(data).digest() == digest else None


def _write(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.with_name(f".{secrets.token_hex(8)}")
    try:
        temporary.write_bytes(hashlib.sha256(data).digest() + data)
        os.replace(temporary, path)
    finally:
        temporary.unlink(missing_ok=True)


@functools.cache
def _forget_others(index: Path) -> None:
    """Remove what was compiled from other sources."""
    for other in index.parent.glob(f"{_PREFIX}*"):
        if other != index:
            shutil.rmtree(other, ignore_errors=True)

"""Machine code kept on disk: beside the sources where those may be written, else in the user's cache.

Every file carries a checksum, and a damaged or missing one is compiled again without a word.  The files are named by
all kernels' sources, since a kernel changes with those that it calls in other files.
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
from pathlib import Path
from typing import Any

import llvmlite

from yellow_ember.dsp.kernels import _machine_code
from yellow_ember.folders import Base, folder, is_writable

_HERE = Path(__file__).parent
_PREFIX = "kernels-"
_DIGEST_BYTES = 32


def read(name: str, kinds: str) -> Any:
    """What was kept of a kernel for arguments of these kinds; None where there is nothing, or it is damaged."""
    for directory in dict.fromkeys((_beside_sources(), _writable())):
        code = None if directory is None else _read(directory / _file_name(name, kinds))
        if code is not None:
            return code
    return None


def write(name: str, kinds: str, code: Any) -> None:
    """Keep it, where anything can be kept."""
    directory = _writable()
    if directory is not None:
        _forget_others(directory)
        # A full disk costs the next start some seconds, and nothing now.
        with contextlib.suppress(OSError):
            _write(directory / _file_name(name, kinds), pickle.dumps(code))


def _file_name(name: str, kinds: str) -> str:
    return f"{name}-{hashlib.sha256(f'{kinds} {_machine_code.processor()}'.encode()).hexdigest()[:24]}"


@functools.cache
def _version() -> str:
    """A name for all compiled code as it is, with what compiles it: a Numba goes with one LLVM."""
    digest = hashlib.sha256(f"{llvmlite.__version__} {sys.version}".encode())
    package = _HERE.parent.parent
    for source in sorted([*(package / "dsp").rglob("*.py"), *(package / "engine").glob("*.py")]):
        digest.update(source.read_bytes())
    return _PREFIX + digest.hexdigest()[:16]


@functools.cache
def _beside_sources() -> Path:
    return _HERE / "__pycache__" / _version()


@functools.cache
def _writable() -> Path | None:
    """Where new machine code is kept; None where nothing can be written, and it lives as long as the process."""
    beside = _beside_sources()
    if is_writable(beside):
        return beside
    try:
        return folder(Base.CACHE, _version())
    except OSError:
        return None


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

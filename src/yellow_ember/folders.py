"""The program's own folders, by the XDG base directories, and what stands in for one that can't be written."""

from __future__ import annotations

import functools
import os
import secrets
import stat
import tempfile
from enum import Enum
from pathlib import Path

import platformdirs

_APP = "yellow-ember"
_PROBE_BYTES = 4096


class Base(Enum):
    """A base directory; the value says what is lost where it can't be written."""

    CACHE = "audio made ready and prints"
    STATE = "unsaved work and earlier versions"
    CONFIG = "settings and layout"
    DATA = "your own presets, sets, alignments and recordings"
    RUNTIME = "the meeting place of several windows"


def folder(base: Base, *parts: str) -> Path:
    """A folder of the program's, made where it is not there.

    Where the base directory can't be written, a temporary folder of this user stands in for it.
    OSError where not even that can be made.
    """
    result = _usable(base, _requested(base)).joinpath(*parts)
    result.mkdir(parents=True, exist_ok=True)
    return result


def troubles() -> list[str]:
    """A sentence for every base directory that can't be written, for the user."""
    said = []
    for base in Base:
        requested = _requested(base)
        try:
            used = _usable(base, requested)
        except OSError:
            said.append(f"{requested} can't be written: {base.value} are not kept.")
            continue
        if used != requested and base is not Base.RUNTIME:
            said.append(f"{requested} can't be written: {base.value} are kept in {used} only until this computer "
                        "restarts.")
    return said


def ensure_runtime_dir() -> None:
    """Set XDG_RUNTIME_DIR where the desktop did not, so that no library has to guess, or complains."""
    given = os.environ.get("XDG_RUNTIME_DIR")
    if given and os.path.isdir(given) and os.access(given, os.W_OK):
        return
    try:
        os.environ["XDG_RUNTIME_DIR"] = str(_private(Path(tempfile.gettempdir()) / f"{_APP}-runtime-{os.getuid()}"))
    except OSError:
        os.environ.pop("XDG_RUNTIME_DIR", None)


def is_writable(path: Path) -> bool:
    """True where a new file in that folder takes bytes (a full disk, a read-only one or permissions refuse)."""
    probe = path / f".{secrets.token_hex(8)}.probe"
    try:
        path.mkdir(parents=True, exist_ok=True)
        handle = os.open(probe, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
    except OSError:
        return False
    try:
        return os.write(handle, bytes(_PROBE_BYTES)) == _PROBE_BYTES
    except OSError:
        return False
    finally:
        os.close(handle)
        probe.unlink(missing_ok=True)


def _requested(base: Base) -> Path:
    match base:
        case Base.CACHE:
            name = platformdirs.user_cache_dir(_APP)
        case Base.STATE:
            name = platformdirs.user_state_dir(_APP)
        case Base.CONFIG:
            name = platformdirs.user_config_dir(_APP)
        case Base.DATA:
            name = platformdirs.user_data_dir(_APP)
        case Base.RUNTIME:
            # Not by platformdirs, which warns where the desktop has set none; the path then stays relative.
            name = os.path.join(os.environ.get("XDG_RUNTIME_DIR", ""), _APP)
    return Path(name)


@functools.cache
def _usable(base: Base, requested: Path) -> Path:
    """The base directory itself, or the first stand-in that can be written."""
    # Without a home the path stays relative, and would grow in whatever folder one started from.
    if requested.is_absolute() and is_writable(requested):
        return requested
    for index in (Path(tempfile.gettempdir()), Path("/dev/shm")):
        try:
            result = _private(index / f"{_APP}-{os.getuid()}") / base.name.lower()
        except OSError:
            continue
        if is_writable(result):
            return result
    raise OSError(28, "No folder can be written", str(requested))


def _private(path: Path) -> Path:
    """A folder in a shared place that belongs to this user and nobody else."""
    path.mkdir(mode=0o700, exist_ok=True)
    status = path.lstat()
    if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.getuid() or status.st_mode & 0o077:
        raise PermissionError(13, "Not a private folder", str(path))
    return path

"""Writing a file so that it is either whole or not there.

What is being written lies beside its target under a hidden name.  The names are noted in the state folder, so that
those of a process that was killed can be swept away later.
"""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
import signal
import stat
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from yellow_ember.files.process_tags import is_running, own_tag
from yellow_ember.folders import Base, folder

_SUFFIX = ".part"
_lock = threading.Lock()
_noted: dict[int, int] = {}
"""The open list of this process's part files, by the process's number (a fork begins its own)."""


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A temporary path beside `path`; on success it is synced and takes its place, on failure it is removed.

    A link is followed, and the permissions of the file that is replaced stay.
    The folder must exist.  Raises OSError where it can't be written.
    """
    target = Path(os.path.realpath(path)) if path.is_symlink() else path
    with _part_of(target) as temporary:
        yield temporary
        with contextlib.suppress(FileNotFoundError):
            temporary.chmod(stat.S_IMODE(target.stat().st_mode))
        _sync(temporary)
        os.replace(temporary, target)
        _sync(target.parent)


class Appearing:
    """A file on its way: `temporary` is written, `path` is its name, the first free one once it is there."""

    def __init__(self, path: Path, temporary: Path) -> None:
        self.path = path
        self.temporary = temporary


@contextmanager
def appearing(path: Path, *, over_empty: bool = False) -> Iterator[Appearing]:
    """A new file that never takes another's place: where the name is taken by then, the next free one is used.

    The folder must exist.  Raises OSError where it can't be written.

    Parameters
    ----------
    over_empty : bool
        A file of no bytes counts as a free name.
    """
    with _part_of(path) as temporary:
        arrival = Appearing(path, temporary)
        yield arrival
        _sync(temporary)
        while not _give_name(temporary, arrival.path, over_empty=over_empty):
            arrival.path = free_name(arrival.path)
        _sync(path.parent)


def _give_name(temporary: Path, path: Path, *, over_empty: bool) -> bool:
    """Let the file appear under that name; False where it is taken."""
    if over_empty and path.is_file() and path.stat().st_size == 0:
        os.replace(temporary, path)
        return True
    try:
        os.link(temporary, path)
    except FileExistsError:
        return False
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK, errno.EACCES):
            raise
        # A file system without links: the name is taken first, by a file that nobody else can have made.
        try:
            os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY))
        except FileExistsError:
            return False
        os.replace(temporary, path)
    return True


def cannot_write(path: Path, error: OSError) -> str:
    """Why a file could not be written, for the user."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"The disk is full: {path} can't be written"
    return f"{path} can't be written: {error.strerror or error}"


def write_text(path: Path, text: str) -> None:
    """Write text atomically."""
    with replacing(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def free_name(path: Path) -> Path:
    """`path`, or the first of `path 2`, `path 3` ... that is not taken."""
    candidate, number = path, 2
    while os.path.lexists(candidate):
        candidate = path.with_name(f"{path.stem} {number}{path.suffix}")
        number += 1
    return candidate


def sweep_parts() -> None:
    """Remove what processes that are gone were writing when they ended."""
    with contextlib.suppress(OSError):
        for note in folder(Base.STATE, "parts").iterdir():
            if not is_running(note.name):
                _sweep(note)


def _sweep(note: Path) -> None:
    with contextlib.suppress(OSError):
        for name in note.read_bytes().split(b"\0"):
            if name.endswith(_SUFFIX.encode()):
                with contextlib.suppress(OSError):
                    os.unlink(name)
        note.unlink()


@contextmanager
def parts_swept() -> Iterator[None]:
    """Have a small process beside this one remove its part files, should it be killed.

    To be entered before any thread is started.  Where their list can't be kept there is nothing to do.
    """
    try:
        note = folder(Base.STATE, "parts") / own_tag()
    except OSError:
        yield
        return
    ended, alive = os.pipe()
    pid = os.fork()
    if pid == 0:
        with contextlib.suppress(BaseException):
            os.setsid()
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                signal.signal(number, signal.SIG_IGN)
            os.dup2(ended, 0)
            os.closerange(1, 4096)
            os.read(0, 1)
            _sweep(note)
        os._exit(0)
    os.close(ended)
    try:
        yield
    finally:
        os.close(alive)
        os.waitpid(pid, 0)


@contextmanager
def _part_of(target: Path) -> Iterator[Path]:
    """A name for what is being written; short, so that a target of the longest name has one too."""
    temporary = target.with_name(f".{secrets.token_hex(8)}{_SUFFIX}")
    _note(temporary)
    try:
        yield temporary
    finally:
        temporary.unlink(missing_ok=True)


def _note(temporary: Path) -> None:
    """Put a part file on this process's list; where the list can't be kept, it is left out."""
    with _lock, contextlib.suppress(OSError):
        handle = _noted.get(os.getpid())
        if handle is None:
            _noted.clear()
            handle = os.open(folder(Base.STATE, "parts") / own_tag(), os.O_CREAT | os.O_APPEND | os.O_WRONLY, 0o600)
            _noted[os.getpid()] = handle
        os.write(handle, os.fsencode(os.path.abspath(temporary)) + b"\0")


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)

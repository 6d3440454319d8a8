"""What compiled code asks of the system, and what threads need to share memory: reading, semaphores, atomic words.

All of it runs in compiled code alone (`system_call_overloads`).
"""

from __future__ import annotations

from yellow_ember.dsp.kernels import overload_modules

overload_modules.add("yellow_ember.engine.system_call_overloads")

SEMAPHORE_WORDS = 4
"""What a semaphore takes, in words of eight bytes."""


def pread(file: int, address: int, count: int, offset: int) -> int:
    """POSIX: bytes read, or -1."""
    raise NotImplementedError


def posix_fadvise(file: int, offset: int, count: int, advice: int) -> int:
    """POSIX: 0, or an error."""
    raise NotImplementedError


def statx(directory: int, name: int, flags: int, mask: int, result: int) -> int:
    """Linux: directory or file, address of a name, flags, mask, address of the result -> 0, or -1."""
    raise NotImplementedError


def sem_init(address: int, shared: int, value: int) -> int:
    """POSIX: `shared` is 1 between processes."""
    raise NotImplementedError


def sem_wait(address: int) -> int:
    """POSIX."""
    raise NotImplementedError


def sem_post(address: int) -> int:
    """POSIX."""
    raise NotImplementedError


def sched_yield() -> int:
    """POSIX."""
    raise NotImplementedError


def load(address: int) -> int:
    """Read a word that other threads write."""
    raise NotImplementedError


def store(address: int, value: int) -> None:
    """Write a word that other threads read."""
    raise NotImplementedError


def fetch_add(address: int, value: int) -> int:
    """Add to a word that several threads add to; its value before."""
    raise NotImplementedError

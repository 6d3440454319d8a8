"""Records: the memory of a running stage, declared once, filled by its Python half and worked in by its compiled half.

A record is a class whose attributes say what the stage holds:

>>> class ExampleRecord(Record):
...     gain: float = real()
...     sections: Samples = setting(1, 5)
...     memory: Samples = state("channels", 1, 2)
>>> record = ExampleRecord.make(channels=2)
>>> record.gain, record.memory.shape
(0.0, (2, 1, 2))

In Python its attributes are numbers and arrays.  A compiled kernel is given the same memory as a NumPy structure, in
which an array is an address and a shape; `vector`, `matrix`, `cube` and the like make an array of it there, and let an
array pass where the kernel runs as plain Python.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import address_of_kernel, inlined, kernel, overload_modules

WORD = 8
"""Bytes of a number."""
_ALIGNMENT = 64
"""Bytes, a cache line: every array begins on one."""


class Role(Enum):
    """What becomes of a field when a stage is reset, and when another goes on from where it is."""

    SETTING = "made from the user's values; neither emptied nor copied"
    STATE = "emptied by a reset; copied to whatever goes on from here"
    SCRATCH = "means nothing from one block to the next"
    SHARED = "an array of somebody else's, which is only read"


class WordKind(Enum):
    """What lies in a word of a record's memory."""

    PLACE = 0
    """Where an array of the record's own lies, or nothing."""
    WHOLE = 1
    REAL = 2
    SHARED = 3
    """Where a shared array lies."""


@dataclass(frozen=True, slots=True)
class Field:
    """shape : sizes, by number or by the name that `Record.make` is given them under; empty for one number"""

    role: Role
    dtype: type
    shape: tuple[int | str, ...] = ()
    dimensions: int = 0


def real() -> Any:
    """A float of the settings."""
    return Field(Role.SETTING, np.float64)


def whole() -> Any:
    """A whole number of the settings; a flag is 0 or 1."""
    return Field(Role.SETTING, np.int64)


def setting(*shape: int | str) -> Any:
    """An array of the settings."""
    return Field(Role.SETTING, np.float64, shape, len(shape))


def state(*shape: int | str) -> Any:
    """An array that carries over from block to block."""
    return Field(Role.STATE, np.float64, shape, len(shape))


def whole_setting(*shape: int | str) -> Any:
    """An array of whole numbers of the settings."""
    return Field(Role.SETTING, np.int64, shape, len(shape))


def whole_state(*shape: int | str) -> Any:
    """An array of whole numbers that carries over from block to block."""
    return Field(Role.STATE, np.int64, shape, len(shape))


def scratch(*shape: int | str) -> Any:
    """An array that a block is worked out in."""
    return Field(Role.SCRATCH, np.float64, shape, len(shape))


def whole_scratch(*shape: int | str) -> Any:
    """An array of whole numbers that mean nothing from one block to the next."""
    return Field(Role.SCRATCH, np.int64, shape, len(shape))


def part(record: type[Record]) -> Any:
    """A record within the record."""
    return record


def shared(dimensions: int) -> Any:
    """A table of that many dimensions which several records read; it is set as a whole."""
    return Field(Role.SHARED, np.float64, (), dimensions)


class Record:
    """The base of all records; see the module's words."""

    dtype: ClassVar[np.dtype[Any]]
    _own: ClassVar[dict[str, Field]]
    _parts: ClassVar[dict[str, type[Record]]]

    _memory: NDArray[Any]
    _arrays: dict[str, NDArray[Any]]
    _inner: dict[str, Record]

    def __init_subclass__(cls) -> None:
        cls._own = {name: value for name, value in vars(cls).items() if isinstance(value, Field)}
        cls._parts = {name: value for name, value in vars(cls).items()
                      if isinstance(value, type) and issubclass(value, Record)}
        for name in (*cls._own, *cls._parts):
            delattr(cls, name)
        layout: list[tuple[str, Any]] = []
        for name, field in cls._own.items():
            layout.append((name, _array_dtype(field.dimensions) if field.dimensions else field.dtype))
        cls.dtype = np.dtype(layout + [(name, part.dtype) for name, part in cls._parts.items()], align=True)

    @classmethod
    def make(cls, **sizes: int) -> Self:
        """Return an empty record.

        Parameters
        ----------
        **sizes : int
            What the sizes in the declaration are.
        """
        made = cls._over(np.zeros(1, cls.dtype))
        places: list[tuple[Record, str, tuple[int, ...]]] = []
        for role in (Role.STATE, Role.SETTING, Role.SCRATCH):
            made._lay_out(role, sizes, places)
            if role is Role.STATE:
                states = len(places)
        lengths = [WORD * math.prod(shape) for _, _, shape in places]
        offsets = list(itertools.accumulate((_rounded_up(length) for length in lengths), initial=0))
        store = np.zeros(offsets[-1] + _ALIGNMENT, np.uint8)
        first = -store.ctypes.data % _ALIGNMENT
        for (record, name, shape), offset, length in zip(places, offsets, lengths, strict=False):
            memory = store[first + offset:first + offset + length]
            record._put(name, memory.view(record._own[name].dtype).reshape(shape))
        object.__setattr__(made, "carried", store[first:first + offsets[states]].view(np.float64))
        settings = sum(record._own[name].role is not Role.SCRATCH for record, name, _ in places)
        object.__setattr__(made, "words", store[first:first + offsets[settings]].view(np.int64))
        kinds = np.zeros(made.words.size, np.int64)
        for (record, name, _), offset, length in zip(places[:settings], offsets, lengths, strict=False):
            kind = WordKind.REAL if record._own[name].dtype is np.float64 else WordKind.WHOLE
            kinds[offset // WORD:(offset + length) // WORD] = kind.value
        object.__setattr__(made, "word_kinds", kinds)
        return made

    address: int
    """Where the structure lies, for compiled code."""
    carried: Samples
    """All state, in one piece: what a copy of a running stage takes along."""
    words: NDArray[np.int64]
    """All state and behind it all arrays of settings, in one piece, bit by bit."""
    word_kinds: NDArray[np.int64]
    """What each of these words is, by the values of `WordKind`."""

    @property
    def structure(self) -> NDArray[np.int64]:
        """The structure itself, bit by bit: numbers, and where arrays lie."""
        return self._memory.view(np.int64)

    @property
    def shared_arrays(self) -> tuple[NDArray[Any], ...]:
        """The arrays of others that it reads, those of its parts among them."""
        own = (self._arrays[name] for name, field in self._own.items()
               if field.role is Role.SHARED and name in self._arrays)
        return (*own, *(array for part in self._inner.values() for array in part.shared_arrays))

    @classmethod
    def structure_kinds(cls) -> NDArray[np.int64]:
        """What each word of the structure is, by the values of `WordKind`."""
        kinds = np.full(cls.dtype.itemsize // WORD, WordKind.PLACE.value)
        fields: Any = cls.dtype.fields
        for name, field in cls._own.items():
            first, size = fields[name][1] // WORD, fields[name][0].itemsize // WORD
            if field.role is Role.SHARED:
                kinds[first:first + size] = WordKind.SHARED.value
            elif not field.dimensions:
                kinds[first] = (WordKind.REAL if field.dtype is np.float64 else WordKind.WHOLE).value
        for name, part in cls._parts.items():
            first = fields[name][1] // WORD
            kinds[first:first + part.dtype.itemsize // WORD] = part.structure_kinds()
        return kinds

    @classmethod
    def _over(cls, memory: NDArray[Any]) -> Self:
        """A record over a structure that exists, of its own or within another."""
        made = object.__new__(cls)
        object.__setattr__(made, "_memory", memory)
        object.__setattr__(made, "address", int(memory.ctypes.data))
        object.__setattr__(made, "_arrays", {})
        object.__setattr__(made, "_inner", {name: part._over(memory[name]) for name, part in cls._parts.items()})
        return made

    def _lay_out(self, role: Role, sizes: dict[str, int],
                 places: list[tuple[Record, str, tuple[int, ...]]]) -> None:
        """Add the arrays of a role, those of parts among them."""
        for name, field in self._own.items():
            if field.dimensions and field.role is role:
                shape = tuple(sizes[size] if isinstance(size, str) else size for size in field.shape)
                places.append((self, name, shape))
        for part in self._inner.values():
            part._lay_out(role, sizes, places)

    def _put(self, name: str, array: NDArray[Any]) -> None:
        """Point a field to an array."""
        self._arrays[name] = array
        entry = self._memory[name]
        entry["address"] = array.ctypes.data
        for axis, size in enumerate(array.shape):
            entry[f"size{axis}"] = size

    def __getattr__(self, name: str) -> Any:
        if name in self._arrays:
            return self._arrays[name]
        if name in self._inner:
            return self._inner[name]
        if name in self._own and not self._own[name].dimensions:
            return self._memory[name][0].item()
        raise AttributeError(f"{type(self).__name__} has no field {name!r}")

    def __setattr__(self, name: str, value: Any) -> None:
        field = self._own.get(name)
        if field is None:
            raise AttributeError(f"{type(self).__name__} has no field {name!r}")
        if field.role is Role.SHARED:
            self._put(name, np.ascontiguousarray(value, dtype=np.float64))
        elif field.dimensions:
            self._arrays[name][...] = value
        else:
            self._memory[name] = value


def _array_dtype(dimensions: int) -> np.dtype[Any]:
    """How an array lies in a structure: where it is, and how large."""
    return np.dtype([("address", np.int64), *((f"size{axis}", np.int64) for axis in range(dimensions))])


def _rounded_up(size: int) -> int:
    return -(-size // _ALIGNMENT) * _ALIGNMENT


def vector(field: Any) -> Any:
    """A record's array of one dimension."""
    return field


def matrix(field: Any) -> Any:
    """A record's array of two dimensions."""
    return field


def cube(field: Any) -> Any:
    """A record's array of three dimensions."""
    return field


def array_4d(field: Any) -> Any:
    """A record's array of four dimensions."""
    return field


def array_5d(field: Any) -> Any:
    """A record's array of five dimensions."""
    return field


def whole_vector(field: Any) -> Any:
    """A record's array of whole numbers, of one dimension."""
    return field


def whole_matrix(field: Any) -> Any:
    """A record's array of whole numbers, of two dimensions."""
    return field


def block_of(field: Any, channels: Any, frames: Any) -> Any:
    """The beginning of a record's flat array as a block (channels, frames)."""
    return field[:channels * frames].reshape(channels, frames)


def cube_of(field: Any, planes: Any, rows: Any, columns: Any) -> Any:
    """The beginning of a record's array as one of three dimensions."""
    return field.reshape(-1)[:planes * rows * columns].reshape(planes, rows, columns)


def block_in(field: Any, row: int, channels: int, frames: int) -> Any:
    """The beginning of a row of a record's matrix as a block (channels, frames)."""
    return field[row, :channels * frames].reshape(channels, frames)


def singles_of(field: Any, rows: int, columns: int) -> Any:
    """The beginning of a record's flat array as single-precision numbers (rows, columns)."""
    return field.view(np.float32)[:rows * columns].reshape(rows, columns)


def address_of(field: Any) -> Any:
    """Where a record's array lies."""
    return field.ctypes.data


def record_at(address: int, dtype: np.dtype[Any]) -> Any:
    """The record of that structure at an address; in compiled code alone."""
    raise NotImplementedError


def block_at(address: int, channels: int, frames: int) -> Samples:
    """The block at an address; in compiled code alone."""
    raise NotImplementedError


def call_at(function: int, record: int, block: int, channels: int, frames: int) -> None:
    """Call what lies at an address, under the one signature of compiled halves; in compiled code alone."""
    raise NotImplementedError


overload_modules.add("yellow_ember.dsp.record_overloads")


@inlined
def call_stage(function: int, record: int, block: Samples) -> None:
    """Run a compiled half, by its address, on a block in place; from compiled code."""
    call_at(function, record, block.ctypes.data, block.shape[0], block.shape[1])


@kernel
def run_stage(function: int, record: int, block: Samples) -> None:
    """Run a compiled half, by its address, on a block in place."""
    call_stage(function, record, block)


COMPILED_HALF = "i,i,i,i"
"""What all compiled halves take: where the record and the block lie, channels, frames."""


class CompiledHalf:
    """What makes the sound of a stage, a slot or a chain: its record, and the kernel (see `Kernel`) that runs a block.

    `address` is the kernel under the one signature that all have; it is compiled, or loaded, when it is first asked
    for.  What calls it by that address need not be compiled with it.
    """

    def __init__(self, record_type: type[Record], process: Callable[[Any, Samples], None], *,
                 wide: bool = False) -> None:
        self.record_type, self.process, self._wide = record_type, process, wide

    def load(self) -> None:
        """Load it now, or compile it."""
        _ = self.address

    @cached_property
    def address(self) -> int:
        """Where the compiled kernel lies."""
        process, dtype = self.process, self.record_type.dtype

        def entry(record: int, block: int, channels: int, frames: int) -> None:
            process(record_at(record, dtype), block_at(block, channels, frames))

        return address_of_kernel(entry, COMPILED_HALF, self.record_type.__name__, wide=self._wide)

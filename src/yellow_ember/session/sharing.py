"""How much memory a session takes beyond another one that it shares its parts with."""

from __future__ import annotations

import dataclasses
import sys

_DEEPEST = 12


def bytes_beyond(value: object, other: object, depth: int = 0) -> int:
    """Bytes of all that is part of `value` and not, as the same object, of `other`.

    Parts are compared place by place and, within tuples, wherever they stand.
    """
    if value is other or depth > _DEEPEST or isinstance(value, int | float | bool | None):
        return 0
    size = sys.getsizeof(value)
    parts = _parts(value)
    others = _parts(other) if type(value) is type(other) else {}
    known = {id(part) for part in others.values()}
    return size + sum(bytes_beyond(part, others.get(index), depth + 1)
                      for index, part in parts.items() if id(part) not in known)


def _parts(value: object) -> dict[object, object]:
    """What a value is made of, by place."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {field.name: getattr(value, field.name) for field in dataclasses.fields(value)}
    if isinstance(value, tuple | list):
        return dict(enumerate(value))
    return dict(value) if isinstance(value, dict) else {}

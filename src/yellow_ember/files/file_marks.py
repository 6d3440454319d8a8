"""What a WAV file says of time beside its samples: time stamp, markers and tempo.

Time stamps: Broadcast Wave (EBU Tech 3285, chunk `bext`).  Markers: `cue ` with names from `adtl` (Multimedia
Programming Interface and Data Specifications 1.0, IBM and Microsoft 1991), and the loops of `smpl`.  Tempo: `acid`.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from yellow_ember.files.reading import AudioFileError, probe
from yellow_ember.files.riff import append_chunk, chunks, content
from yellow_ember.plain_text import plain_line

_BEXT = struct.Struct("<256s32s32s10s8sQH64s10s180x")
"""Description, originator, its reference, date, time, time reference, version, UMID, five loudness values."""
_ORIGINATOR = b"Yellow Ember"
_NO_LOUDNESS = b"\xff\x7f" * 5
"""EBU Tech 3285 v2: 0x7FFF where a loudness is not given."""
_MOST_MARKERS = 1000
_TOLD = (b"bext", b"cue ", b"smpl", b"acid", b"LIST")
"""The chunks that say something of time."""
_SLOWEST, _FASTEST = 20.0, 400.0
_ONE_SHOT = 1
_ACID_TEMPO = 20
"""Where in `acid` the tempo stands, a 32 bit float."""
_SMPL_LOOPS = 36
_LOOP_BYTES = 24


@dataclass(frozen=True, slots=True)
class FileMarks:
    """What is known of a file.

    Attributes
    ----------
    time : float | None
        Seconds since midnight at its first sample.
    tempo : float | None
        Beats a minute.
    markers : tuple[tuple[float, str], ...]
        Seconds from its beginning, and names, in the order of time.
    """

    time: float | None = None
    tempo: float | None = None
    markers: tuple[tuple[float, str], ...] = ()


def read_marks(path: Path) -> FileMarks:
    """Return what a file says; nothing where it says nothing, or is damaged."""
    try:
        rate = probe(path).rate
        with path.open("rb") as file:
            found = [(chunk.name, content(file, chunk)) for chunk in chunks(file) if chunk.name in _TOLD]
    except (AudioFileError, OSError):
        return FileMarks()
    bodies = dict(found)
    names = {number: text for name, body in found if name == b"LIST" for number, text in _labels(body).items()}
    places = _loops(bodies.get(b"smpl", b"")) | _cues(bodies.get(b"cue ", b""))
    markers = sorted((frame / rate, names.get(number, "")) for number, frame in places.items())
    return FileMarks(_time(bodies.get(b"bext", b""), rate), _tempo(bodies.get(b"acid", b"")),
                     tuple(markers[:_MOST_MARKERS]))


def _time(body: bytes, rate: int) -> float | None:
    if len(body) < _BEXT.size:
        return None
    seconds = float(_BEXT.unpack_from(body)[5]) / rate
    return seconds if seconds < 2 * 86400.0 else None


def _tempo(body: bytes) -> float | None:
    if len(body) < _ACID_TEMPO + 4 or struct.unpack_from("<I", body)[0] & _ONE_SHOT:
        return None
    tempo: float = struct.unpack_from("<f", body, _ACID_TEMPO)[0]
    return tempo if _SLOWEST <= tempo <= _FASTEST else None


def _cues(body: bytes) -> dict[int, int]:
    """Frames of the points, by their numbers."""
    count = struct.unpack_from("<I", body)[0] if len(body) >= 4 else 0
    return {number: frame for number, _, _, _, _, frame in (
        struct.unpack_from("<II4sIII", body, at) for at in range(4, min(4 + 24 * count, len(body) - 23), 24))}


def _loops(body: bytes) -> dict[int, int]:
    """Frames at which the loops of a sampler begin, by their numbers."""
    return {number: start for number, _, start in (
        struct.unpack_from("<III", body, at) for at in range(_SMPL_LOOPS, len(body) - _LOOP_BYTES + 1, _LOOP_BYTES))}


def _labels(body: bytes) -> dict[int, str]:
    """Names of points, by their numbers, of a list of associated data."""
    names = {}
    at = 4
    while body[:4] == b"adtl" and at + 12 <= len(body):
        name, size, number = struct.unpack_from("<4sII", body, at)
        if name == b"labl":
            words = body[at + 12:at + 8 + size].split(b"\0")[0]
            names[number] = plain_line(words.decode("utf-8", errors="replace"))
        at += 8 + size + (size & 1)
    return names


def bext(time_reference: int, description: str = "") -> bytes:
    """What a `bext` chunk holds.

    Parameters
    ----------
    time_reference : int
        Frames since midnight at the first sample.
    """
    now = datetime.now()
    return _BEXT.pack(
        description.encode("ascii", errors="replace")[:256], _ORIGINATOR, b"", now.strftime("%Y-%m-%d").encode(),
        now.strftime("%H:%M:%S").encode(), time_reference, 2, b"", _NO_LOUDNESS)


def write_time_stamp(path: Path, seconds: float, rate: int, description: str = "") -> None:
    """Give a WAV file the time of day at its first sample.

    Raises
    ------
    OSError
        Where that is not possible.
    """
    append_chunk(path, b"bext", bext(round(seconds * rate), description))

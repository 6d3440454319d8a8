"""Alignments of tape machines that the user keeps, by name, in the XDG data folder."""

from __future__ import annotations

from pathlib import Path

from yellow_ember.dsp.parameters import Value, Values
from yellow_ember.dsp.stages import stage_kind
from yellow_ember.dsp.tape.line_up import KEPT
from yellow_ember.folders import Base, folder
from yellow_ember.session.io.own_files import write_object
from yellow_ember.session.io.reading import SessionFileError, check_format, load_object, only

FORMAT, VERSION = "yellow-ember/alignments", 1


def alignments_file() -> Path:
    return folder(Base.DATA) / "alignments.json"


def read_alignments() -> dict[str, dict[str, Value]]:
    """All kept alignments by name.  SessionFileError names the file, the place and the reason."""
    path = alignments_file()
    if not path.exists():
        return {}
    found = load_object(path)
    kind = stage_kind("tape")
    try:
        check_format(found, FORMAT, VERSION)
        only(found, ("format", "version", "alignments"), "")
        kept = found.get("alignments")
        if not isinstance(kept, dict):
            raise ValueError("alignments: must be an object")
        result = {}
        for name, values in kept.items():
            if not isinstance(values, dict):
                raise ValueError(f"alignments.{name}: must be an object")
            checked = kind.check(values, f"alignments.{name}")
            result[name] = {key: checked[key] for key in KEPT}
        return result
    except ValueError as reason:
        raise SessionFileError(f"{path}: {reason}") from None


def keep_alignment(name: str, values: Values) -> None:
    """Keep a machine's alignment, in place of one of the same name."""
    _write({**read_alignments(), name: {key: values[key] for key in KEPT}})


def drop_alignment(name: str) -> None:
    _write({other: values for other, values in read_alignments().items() if other != name})


def _write(alignments: dict[str, dict[str, Value]]) -> None:
    write_object({"format": FORMAT, "version": VERSION, "alignments": alignments}, alignments_file())

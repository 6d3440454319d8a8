"""Alignments of tape machines that the user keeps, by name, in the XDG data folder."""

from __future__ import annotations

from pathlib import Path

from yellow_ember.dsp.parameters import Value, Values
from yellow_ember.dsp.tape.line_up import KEPT
from yellow_ember.folders import Base, folder
from yellow_ember.session.io.content_types import AlignmentContent, AlignmentsContent
from yellow_ember.session.io.file_format import FileFormat

ALIGNMENTS_FORMAT = FileFormat("yellow-ember/alignments", AlignmentsContent)


def alignments_file() -> Path:
    return folder(Base.DATA) / "alignments.json"


def read_alignments() -> dict[str, dict[str, Value]]:
    """Return all kept alignments by name.  SessionFileError names the file, the position and the reason."""
    path = alignments_file()
    if not path.exists():
        return {}
    return ALIGNMENTS_FORMAT.read(
        path, lambda content: {name: dict(values) for name, values in content.alignments.items()})


def keep_alignment(name: str, values: Values) -> None:
    """Keep a machine's alignment, in place of one of the same name."""
    _write({**read_alignments(), name: {key: values[key] for key in KEPT}})


def drop_alignment(name: str) -> None:
    _write({other: values for other, values in read_alignments().items() if other != name})


def _write(alignments: dict[str, dict[str, Value]]) -> None:
    contents = {name: AlignmentContent.model_construct(None, **values) for name, values in alignments.items()}
    ALIGNMENTS_FORMAT.write(AlignmentsContent.model_construct(alignments=contents), alignments_file())

"""Chain files: stages in series, to be kept, passed on, and used from the command line."""

from __future__ import annotations

from pathlib import Path

from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.session.io import migrations
from yellow_ember.session.io.chain_content import stage_contents, stages_from
from yellow_ember.session.io.content_types import ChainContent
from yellow_ember.session.io.file_format import FileFormat

CHAIN_FORMAT = FileFormat("yellow-ember/chain", ChainContent, migrations.CHAIN)


def chain_to_text(stages: tuple[StageSettings, ...]) -> str:
    """Return a chain file's text, with absolute paths."""
    return CHAIN_FORMAT.to_text(ChainContent.model_construct(stages=stage_contents(stages)), None)


def write_chain(stages: tuple[StageSettings, ...], path: Path) -> None:
    """Write a chain file, whole or not at all.  SessionFileError where it can't be."""
    CHAIN_FORMAT.write(ChainContent.model_construct(stages=stage_contents(stages)), path)


def chain_from_text(text: str, folder: Path) -> tuple[StageSettings, ...]:
    """Return the stages of a chain file's text; ValueError where it is none."""
    return stages_from(CHAIN_FORMAT.parse_text(text, folder).stages, "stages")


def read_chain(path: Path) -> tuple[StageSettings, ...]:
    """Return the stages of a chain file; SessionFileError names the file, the position and the reason."""
    return CHAIN_FORMAT.read(path, lambda content: stages_from(content.stages, "stages"))

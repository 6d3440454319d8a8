"""What files do that are dropped: on the window, on a strip, on a path."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QMimeData

from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.app.tools.tool import dropped_files
from yellow_ember.dsp.parameters import Impulse
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.impulses import read_impulse
from yellow_ember.files.reading import READABLE, AudioFileError
from yellow_ember.session.edits.edits import add_stage, set_parameter, use_chain
from yellow_ember.session.io.chain_file import read_chain
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.presets import read_preset
from yellow_ember.session.values.drawn import lanes_in_seconds
from yellow_ember.session.values.model import Session, StripKind, new_stage

_CHAIN_SUFFIX = ".json"


def audio_of(mime: QMimeData | None) -> list[Path]:
    """The audio files of a drag; none where anything else is among them."""
    paths = dropped_files(mime)
    return paths if audio_only(paths) else []


def audio_only(paths: Sequence[Path]) -> bool:
    """True for one or more files that all are audio by their names."""
    return bool(paths) and all(path.suffix.lower() in READABLE for path in paths)


def fits_path(mime: QMimeData | None) -> bool:
    """Whether a path takes what is dragged: one impulse response, preset or chain file."""
    paths = dropped_files(mime)
    return len(paths) == 1 and paths[0].suffix.lower() in (*READABLE, _CHAIN_SUFFIX)


def on_strip(sessions: SessionKeeper, strip_id: str, paths: Sequence[Path]) -> None:
    """Put audio files on a track, from the start; on a bus they become tracks that feed it."""
    if sessions.session.strip(strip_id).kind is StripKind.TRACK:
        sessions.add_files(strip_id, list(paths), 0.0)
    else:
        sessions.add_audio(list(paths), strip_id)


def on_path(sessions: SessionKeeper, selection: Selection, messages: Messages, path: Path, stage_id: str) -> None:
    """Use a preset or a chain on the chosen strip, or an impulse response in the stage that it was dropped on.

    An impulse response goes into the first stage that takes one where that stage does not, or into a new one.
    """
    try:
        if path.suffix.lower() == _CHAIN_SUFFIX:
            _use(sessions, selection, path)
        else:
            _respond(sessions, selection, path, stage_id)
    except (SessionFileError, AudioFileError, ValueError) as error:
        messages.warn(str(error))


def _use(sessions: SessionKeeper, selection: Selection, path: Path) -> None:
    strip_id = selection.strip_id
    try:
        preset = read_preset(path)
    except SessionFileError as no_preset:
        try:
            stages = read_chain(path)
        except SessionFileError:
            raise no_preset from None
        sessions.document.commit(f"Chain {path.stem}", lambda session: use_chain(session, strip_id, stages))
        return
    sessions.document.commit(f"Preset {preset.name}", lambda session: use_chain(
        session, strip_id, lanes_in_seconds(preset.stages, session), preset.macros, preset.match_db))


def _respond(sessions: SessionKeeper, selection: Selection, path: Path, stage_id: str) -> None:
    read_impulse(path, sessions.session.rate)
    strip = selection.strip
    takers = {stage.id: name for stage in strip.chain if (name := _impulse_of(stage))}
    stage_id = stage_id if stage_id in takers else next(iter(takers), "")
    cabinet = new_stage("cabinet")

    def edit(session: Session) -> Session:
        if stage_id:
            return set_parameter(session, strip.id, stage_id, takers[stage_id], str(path))
        return set_parameter(add_stage(session, strip.id, cabinet), strip.id, cabinet.id, _impulse_of(cabinet),
                             str(path))

    sessions.document.commit(f"Impulse response {path.stem}", edit)
    selection.select(strip.id, stage_id or cabinet.id)


def _impulse_of(stage: StageSettings) -> str:
    """Id of the parameter that names an impulse response, "" for none."""
    return next((parameter.id for parameter in stage.declaration.parameters if isinstance(parameter, Impulse)), "")

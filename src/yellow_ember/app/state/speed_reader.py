"""Reads the chosen stage's wow and flutter as a meter would: with a tone, in the background."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.job_keeper import JobKeeper
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.stage import Clock, Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.measure.wow_flutter import TONE_HZ, SpeedReading, wow_and_flutter

_RATE, _SECONDS, _BLOCK = 24000, 8.0, 4096
_SETTLE_MS = 300
_STEADY_PCT = 0.004


def read_speed(stage: StageSettings, tempo: float, reference_dbfs: float) -> SpeedReading | None:
    """The meter's reading of one stage; None where it lets no tone through."""
    clock = Clock(tempo=tempo)
    chain = Chain(Setup(_RATE, 1, _BLOCK, 1, reference_dbfs, clock=clock), [replace(stage, on=True, dry_db=None)])
    frames = round(_SECONDS * _RATE) + chain.latency
    tone: Samples = 10.0 ** (reference_dbfs / 20.0) * np.sin(2.0 * np.pi * TONE_HZ * np.arange(frames) / _RATE)
    for start in range(0, frames, _BLOCK):
        part = tone[None, start:start + _BLOCK].copy()
        chain.process(part)
        tone[start:start + _BLOCK] = part[0]
    try:
        return wow_and_flutter(tone[chain.latency:], _RATE)
    except ValueError:
        return None


class SpeedReader(QObject):
    """`changed` is sent when `text` is new."""

    changed = pyqtSignal()

    def __init__(self, sessions: SessionKeeper, selection: Selection, jobs: JobKeeper) -> None:
        super().__init__()
        self._sessions, self._selection, self._jobs = sessions, selection, jobs
        self.text = ""
        self._shown: object = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_SETTLE_MS)
        self._timer.timeout.connect(self._read)

    def want(self) -> None:
        """The chosen stage may have changed: read it once that has settled."""
        stage = self._selection.strip.stage(self._selection.stage_id) if self._selection.stage_id else None
        if stage is None or not stage.declaration.wavers:
            self.text = ""
            self._shown = None
            return
        requested = (stage.kind, stage.params, self._sessions.session.tempo)
        if requested != self._shown:
            self._shown = requested
            self._timer.start()

    def _read(self) -> None:
        if not self._selection.stage_id:
            return
        stage = self._selection.strip.stage(self._selection.stage_id)
        session = self._sessions.session
        self._jobs.think(self, read_speed, stage, session.tempo, session.reference_dbfs, done=self._show)

    def _show(self, reading: SpeedReading | None) -> None:
        if reading is None:
            self.text = "no tone comes through"
        elif reading.weighted_pct < _STEADY_PCT:
            self.text = "runs steady"
        else:
            self.text = f"reads {reading.weighted_pct:.3f} % weighted peak"
        self.changed.emit()

"""The session's tempo by tapping it."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.gesture import Gesture
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.dsp.parameters import Group, Number

TEMPO = Number(id="tempo", label="Tempo", unit="bpm", minimum=20.0, maximum=400.0, default=120.0,
               group=Group.MOTION, help="Beats a minute, for the bars and whatever is locked to tempo.")
_OVER_SECONDS = 2.5
"""After so long without a tap the next one is the first again."""
_FEWEST = 3
_REMEMBERED = 12


def tapped_tempo(times: list[float]) -> float | None:
    """The tempo of taps at some seconds, by the straight line that they lie on best; None for too few."""
    if len(times) < _FEWEST:
        return None
    period = float(np.polyfit(np.arange(len(times)), np.array(times) - times[0], 1)[0])
    return None if period <= 0.0 else min(max(60.0 / period, TEMPO.minimum), TEMPO.maximum)


class TempoTap(QObject):
    """Taps become the session's tempo from the third one on: one step of the history, however many come.

    `tapped` is sent with how many there were.
    """

    tapped = pyqtSignal(int)

    def __init__(self, sessions: SessionKeeper) -> None:
        super().__init__()
        self.clock: Callable[[], float] = time.monotonic
        self._gesture = Gesture(sessions)
        self._times: list[float] = []
        self._over = QTimer(self)
        self._over.setSingleShot(True)
        self._over.setInterval(round(1000 * _OVER_SECONDS))
        self._over.timeout.connect(self._end)

    def tap(self) -> None:
        """Take a tap now."""
        self._times = [*self._times[1 - _REMEMBERED:], self.clock()]
        self._over.start()
        tempo = tapped_tempo(self._times)
        if tempo is not None:
            value = round(tempo, 1)
            self._gesture.show("Tempo", "tapped", lambda session: session.with_(tempo=value))
        self.tapped.emit(len(self._times))

    def _end(self) -> None:
        self._times = []
        self._gesture.keep()
        self.tapped.emit(0)

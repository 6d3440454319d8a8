"""Drawing what enters strips and what leaves them, as waves over the stretch that the time line shows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QPainter

from yellow_ember.app.state.added import AddedListening
from yellow_ember.app.state.imports import Imports
from yellow_ember.app.state.measurer import Measurer
from yellow_ember.app.state.session_waves import SessionWaves
from yellow_ember.app.state.time_view import TimeView
from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.wave_image import line_image, pixel_extremes, wave_image
from yellow_ember.dsp.arrays import gain
from yellow_ember.engine.jobs.measuring import StripMeasurement
from yellow_ember.engine.jobs.wave_sums import COLUMN_FRAMES
from yellow_ember.engine.placing import Placed
from yellow_ember.files.overview import FINEST, over_channels
from yellow_ember.session.values.model import Strip

_FILLED, _TALLEST = 0.9, 8.0
"""The loudest of what is shown fills so much of its lane, where it need not be drawn more than so much larger."""
_POINTS_FROM = 0.125
"""Frames a pixel: from here on every sample is a point."""
_LINES_FROM = 36
"""Height of a lane from which lines find room."""
_STEPS_SEEN = 16
"""Pixels: columns that are wider are no wave any more."""


class WavePainter:
    """Draws strips' waves, all at one scale."""

    def __init__(self, imports: Imports, measurer: Measurer, added: AddedListening, time_view: TimeView,
                 session_waves: SessionWaves) -> None:
        self._imports, self._measurer, self._added = imports, measurer, added
        self._view, self._waves = time_view, session_waves
        self._scale = 1.0
        self._peaks: dict[str, tuple[object, float]] = {}
        """By strip, the greatest magnitude of what enters it, and of which copies or wave that is."""

    def fit(self, strips: Sequence[Strip]) -> None:
        """Take the scale at which the loudest of some strips fills its lane."""
        peak = max((self._peak(strip) for strip in strips), default=0.0)
        self._scale = min(max(1.0, _FILLED / peak), _TALLEST) if peak > 0.0 else 1.0

    def _peak(self, strip: Strip) -> float:
        """The greatest magnitude of what enters a strip, as far as it is known."""
        places, whole = self._imports.placed(strip), self._waves.wave(strip.id)
        key = places or whole
        if key is None:
            return 0.0
        known = self._peaks.get(strip.id)
        if known is None or (known[0] != places if places else known[0] is not key):
            columns: NDArray[np.floating] = np.zeros(0) if whole is None else whole.before
            if places:
                columns = np.concatenate([
                    place.sound.stretch(0, place.sound.frames, float(place.sound.frames)).columns.ravel()
                    for place in places])
            known = self._peaks[strip.id] = (key, float(np.abs(columns).max(initial=0.0)))
        return known[1]

    def paint(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """What enters a strip and what leaves it; in a low lane, where lines find no room, that lies behind."""
        low = box.height() < _LINES_FROM
        if low:
            self._paint_after(painter, strip, box)
        places, whole, result = self._imports.placed(strip), self._waves.wave(strip.id), self._measurer.latest(
            strip.id)
        if places:
            for place in places:
                self._paint_region(painter, box, place)
        elif whole is not None:
            self._paint_columns(painter, box, whole.before, 0, COLUMN_FRAMES, theme.BEFORE)
        elif result is not None:
            self._paint_columns(painter, box, result.wave_before, *_place(result, result.wave_before), theme.BEFORE)
        if not low:
            self._paint_after(painter, strip, box)

    def _paint_after(self, painter: QPainter, strip: Strip, box: QRectF) -> None:
        """What leaves a strip: of all the session where that is known, else of the loop; or what was added there."""
        whole, result, added = self._waves.wave(strip.id), self._measurer.latest(strip.id), self._added.part
        scale = gain(strip.match_db)
        if added is not None and added.part.strip_id == strip.id and result is not None:
            self._paint_columns(painter, box, added.wave * scale, *_place(result, added.wave),
                                theme.added_colour(added.against_db))
        elif strip.chain and whole is not None:
            self._paint_outline(painter, box, whole.after, 0, COLUMN_FRAMES)
        elif strip.chain and result is not None:
            self._paint_outline(painter, box, result.wave_after * scale, *_place(result, result.wave_after))

    def _paint_region(self, painter: QPainter, box: QRectF, place: Placed) -> None:
        view, span = self._view, place.span
        shift = span.shift
        begin, end = max(span.first, int(view.first) - 1) - shift, min(span.end, int(view.end) + 2) - shift
        if end <= begin:
            return
        if view.frames_per_pixel >= FINEST:
            part = place.sound.stretch(begin, end, view.frames_per_pixel)
            columns, start, frames = part.columns, part.start, part.frames
        else:
            start, frames = begin, 1
            sound = place.sound.samples(begin, end)
            if view.frames_per_pixel < 1.0:
                self._paint_samples(painter, box, sound, begin + shift)
                return
            columns = np.repeat(sound[:, :, None], 2, axis=2)
        self._paint_columns(painter, box, over_channels(columns), start + shift, frames, theme.BEFORE)

    def _paint_columns(self, painter: QPainter, box: QRectF, columns: NDArray[np.floating], start: int,
                       frames: float, colour: QColor) -> None:
        """A filled wave of columns (columns, 2) of so many frames each."""
        low, high, left = pixel_extremes(columns * self._scale, start, frames, self._view.first,
                                         self._view.frames_per_pixel, self._view.width)
        if low.size:
            shade = QColor(colour)
            shade.setAlphaF(0.7)
            painter.drawImage(QPointF(left, box.top()), wave_image(low, high, max(1, int(box.height())), shade))

    def _paint_samples(self, painter: QPainter, box: QRectF, sound: NDArray[np.float32], start: int) -> None:
        """So near that there are fewer samples than pixels: a line through them, and nearer still every one a point."""
        if len(sound) == 0:
            return
        values, frames = sound.mean(axis=1) * self._scale, start + np.arange(len(sound))
        left = max(0, int(self._view.x_of(frames[0])))
        right = min(self._view.width, int(self._view.x_of(frames[-1])))
        edges = np.interp(self._view.first + np.arange(left, right + 1) * self._view.frames_per_pixel, frames, values)
        painter.drawImage(QPointF(left, box.top()), line_image(edges, max(1, int(box.height())), theme.BEFORE))
        if self._view.frames_per_pixel < _POINTS_FROM:
            middle, half = box.center().y(), 0.5 * box.height()
            for frame, value in zip(frames.tolist(), values.tolist(), strict=True):
                y = middle - min(max(value, -1.0), 1.0) * half
                painter.fillRect(QRectF(self._view.x_of(frame) - 1.5, y - 1.5, 3, 3), theme.BEFORE)

    def _paint_outline(self, painter: QPainter, box: QRectF, columns: NDArray[np.floating], start: int,
                       frames: float) -> None:
        """What leaves the strip, as a line above and one below; so near that there is a wave to see it is none."""
        if self._view.frames_per_pixel < frames / _STEPS_SEEN:
            return
        if box.height() < _LINES_FROM:
            self._paint_columns(painter, box, columns, start, frames, theme.AFTER)
            return
        low, high, left = pixel_extremes(columns * self._scale, start, frames, self._view.first,
                                         self._view.frames_per_pixel, self._view.width)
        for edge in (low, high):
            painter.drawImage(QPointF(left, box.top()), line_image(edge, max(1, int(box.height())), theme.AFTER))


def _place(result: StripMeasurement, columns: NDArray[np.floating]) -> tuple[int, float]:
    """The frame that a measured stretch's columns begin with, and how many frames each stands for."""
    return result.start, (result.end - result.start) / len(columns)

"""Draws what a control does: the curve of its stage's picture at a low value, the default and a high one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QRectF, QSize
from PyQt6.QtGui import QImage, QPainter, QPixmap

from yellow_ember.app.widgets import theme
from yellow_ember.app.widgets.painting import painting
from yellow_ember.app.widgets.plot import (
    Axes,
    draw_frame,
    draw_frequency_grid,
    draw_legend,
    draw_line,
    draw_x_grid,
    draw_y_grid,
    round_step,
)
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.parameters import Number, Option, Parameter, Switch, Value
from yellow_ember.dsp.stage import Curve, Plot, StageKind

SIZE = QSize(460, 190)
_RATE, _REFERENCE_DBFS = 48000.0, -18.0
_LOW_AT, _HIGH_AT = 0.15, 0.85
_LOGARITHMIC = ("response", "spectrum")
_SEEN = 0.01
"""Of a curve's whole height, what one sees of a change."""


@dataclass(frozen=True, slots=True)
class Figure:
    """Three curves of one plot.  values : what the control says at each, as text"""

    plot: Plot
    curves: tuple[Curve, ...]
    values: tuple[str, ...]


def _three(parameter: Parameter) -> tuple[Value, ...]:
    """A low value, the default, and a high one."""
    match parameter:
        case Number():
            default = parameter.default_value
            return parameter.at(_LOW_AT), default, parameter.at(_HIGH_AT)
        case Option():
            last = len(parameter.choices) - 1
            return parameter.value_at(0), parameter.default_value, parameter.value_at(last)
        case Switch():
            return False, True
    return ()


def figure_of(kind: StageKind, name: str) -> Figure | None:
    """The curve that a control moves most; None where the stage's picture shows nothing of it."""
    parameter = kind.parameter(name)
    values = list(dict.fromkeys(_three(parameter)))
    if len(values) < 2:
        return None
    base = kind.defaults()
    if kind.drive is not None and name != kind.drive:
        # What shapes a drive shows where something is driven.
        drive = kind.number(kind.drive)
        base = {**base, kind.drive: drive.at(0.5 * (drive.position(_first(base[kind.drive])) + 1.0))}
    pictures = [kind.picture(kind.complete({**base, name: value}), _RATE, _REFERENCE_DBFS) for value in values]
    best: tuple[float, Figure] | None = None
    for parts in zip(*pictures, strict=False):
        plots = [part for part in parts if isinstance(part, Plot) and part.curves]
        if len(plots) < len(parts) or plots[0].axes == "gain":
            continue
        for number, curve in enumerate(plots[0].curves):
            curves = [plot.curves[number] for plot in plots if number < len(plot.curves)]
            if len(curves) == len(values) and all(other.y.shape == curve.y.shape for other in curves):
                height = float(np.ptp(np.concatenate([_finite(other.y) for other in curves])) or 1.0)
                moved = float(np.mean(np.abs(_finite(curves[0].y) - _finite(curves[-1].y)))) / height
                if moved > _SEEN and (best is None or moved > best[0]):
                    best = moved, Figure(plots[0], tuple(curves), tuple(parameter.text(value) for value in values))
    return None if best is None else best[1]


def _first(value: Value) -> float:
    number = value[0] if isinstance(value, tuple) else value
    return float(number) if isinstance(number, int | float) else 0.0


def _finite(values: Samples) -> Samples:
    return np.nan_to_num(values, nan=0.0, posinf=0.0, neginf=0.0)


def draw_figure(figure: Figure, ratio: float = 1.0) -> QImage:
    """A picture of a figure, at a screen's ratio of pixels."""
    pixmap = QPixmap(SIZE * ratio)
    pixmap.setDevicePixelRatio(ratio)
    pixmap.fill(theme.PANEL)
    with painting(pixmap) as painter:
        _paint(painter, figure)
    return pixmap.toImage()


def _paint(painter: QPainter, figure: Figure) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    frame = QRectF(42, 20, SIZE.width() - 56, SIZE.height() - 60)
    painter.setFont(theme.font(8, bold=True))
    painter.setPen(theme.TEXT)
    painter.drawText(QRectF(12, 2, SIZE.width() - 20, 16), 0, figure.plot.title)
    every = np.concatenate([_finite(curve.y) for curve in figure.curves])
    low, high = float(every.min()), float(every.max())
    if figure.plot.axes == "response":
        low, high = max(low, -48.0), min(high, 48.0)
    room = max(0.06 * (high - low), 1e-3)
    x = figure.curves[0].x
    log_x = figure.plot.axes in _LOGARITHMIC
    axes = Axes(frame, max(float(x[0]), 1e-3) if log_x else float(x[0]), float(x[-1]), low - room, high + room, log_x)
    draw_frame(painter, axes)
    draw_y_grid(painter, axes, round_step(axes.y_high - axes.y_low, 4.0))
    if log_x:
        draw_frequency_grid(painter, axes)
    else:
        draw_x_grid(painter, axes, round_step(axes.x_high - axes.x_low, 5.0))
    colours = (theme.BEFORE, theme.DIM, theme.AFTER) if len(figure.curves) == 3 else (theme.BEFORE, theme.AFTER)
    for curve, colour in zip(figure.curves, colours, strict=True):
        draw_line(painter, axes, curve.x, curve.y, colour, 1.8)
    draw_legend(painter, QRectF(frame.left(), frame.bottom() + 18, frame.width(), 14),
                list(zip(figure.values, colours, strict=True)))

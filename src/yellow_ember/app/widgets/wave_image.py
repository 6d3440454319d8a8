"""Waves as pictures: what lies between the least and the greatest sample of every pixel, filled."""

from __future__ import annotations

import functools

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QColor, QImage

Pixels = NDArray[np.float64]


def pixel_extremes(columns: NDArray[np.floating], start: float, frames: float, first: float, frames_per_pixel: float,
                   width: int) -> tuple[Pixels, Pixels, int]:
    """Least and greatest in every pixel that the columns reach, and which pixel the first of them is.

    Parameters
    ----------
    columns : NDArray[np.floating]
        (columns, 2), least and greatest of `frames` frames each, from frame `start` on.
    start, frames : float
        Where the first column begins, and how many frames one stands for.
    first, frames_per_pixel : float
        Where the view begins, and how many frames a pixel stands for.
    width : int
        Pixels of the view.
    """
    if len(columns) == 0:
        return np.zeros(0), np.zeros(0), 0
    left = max(0, int(np.floor((start - first) / frames_per_pixel)))
    right = min(width, int(np.ceil((start + len(columns) * frames - first) / frames_per_pixel)))
    if right <= left:
        return np.zeros(0), np.zeros(0), 0
    edges = np.maximum((first + np.arange(left, right + 1) * frames_per_pixel - start) / frames, 0.0)
    columns = columns[:max(1, int(np.ceil(edges[-1])))]
    edges = np.minimum(edges[:-1].astype(np.int64), len(columns) - 1)
    return (np.minimum.reduceat(columns[:, 0], edges).astype(float),
            np.maximum.reduceat(columns[:, 1], edges).astype(float), left)


_MOST_SHADES = 255


@functools.cache
def _shades(rgba: int) -> NDArray[np.uint32]:
    """A colour at every share of what it covers, as Qt's premultiplied pixels."""
    alpha = np.arange(_MOST_SHADES + 1) * (rgba >> 24) // _MOST_SHADES
    shades = alpha << 24
    for shift in (16, 8, 0):
        shades |= (alpha * ((rgba >> shift) & 255) // 255) << shift
    return shades.astype(np.uint32)


def line_image(values: Pixels, height: int, colour: QColor) -> QImage:
    """Return a picture of a line from each value to the next, a pixel apart, as `wave_image` draws it."""
    return wave_image(np.minimum(values[:-1], values[1:]), np.maximum(values[:-1], values[1:]), height, colour)


def wave_image(low: Pixels, high: Pixels, height: int, colour: QColor) -> QImage:
    """Return a picture, a column a pixel, of what lies between -1 at the bottom and 1 at the top."""
    middle = 0.5 * height
    top = middle - np.clip(high, -1.0, 1.0) * middle
    bottom = middle - np.clip(low, -1.0, 1.0) * middle
    # A line is to be seen where there is nothing between the two.
    thin = np.maximum(0.0, 1.0 - (bottom - top)) / 2.0
    top, bottom = top - thin, bottom + thin
    rows = np.arange(height, dtype=np.float32)[:, None]
    covered = np.minimum(rows + 1.0, bottom.astype(np.float32)) - np.maximum(rows, top.astype(np.float32))
    image = _shades(colour.rgba())[(np.clip(covered, 0.0, 1.0) * _MOST_SHADES).astype(np.uint8)]
    picture = QImage(image.tobytes(), image.shape[1], height, 4 * image.shape[1],
                     QImage.Format.Format_ARGB32_Premultiplied)
    # The bytes belong to Python: a copy has its own.
    return picture.copy()

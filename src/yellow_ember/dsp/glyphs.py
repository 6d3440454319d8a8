"""Strokes of which the stages' glyphs are made: points in a unit square, x to the right, y down."""

from __future__ import annotations

import math

Stroke = tuple[tuple[float, float], ...]
Glyph = tuple[Stroke, ...]


def line(*points: tuple[float, float]) -> Stroke:
    """Straight from point to point."""
    return points


def arc(x: float, y: float, radius: float, first_deg: float = 0.0, last_deg: float = 360.0, points: int = 25) -> Stroke:
    """A part of a circle, or all of it; degrees run clockwise from three o'clock."""
    angles = (math.radians(first_deg + (last_deg - first_deg) * k / (points - 1)) for k in range(points))
    return tuple((x + radius * math.cos(angle), y + radius * math.sin(angle)) for angle in angles)


def wave(left: float, right: float, y: float, height: float, turns: float, points: int = 25) -> Stroke:
    """A sine from left to right about a line."""
    return tuple((left + (right - left) * k / (points - 1),
                  y - height * math.sin(2.0 * math.pi * turns * k / (points - 1))) for k in range(points))


def box(left: float, top: float, right: float, bottom: float) -> Stroke:
    """A rectangle."""
    return ((left, top), (right, top), (right, bottom), (left, bottom), (left, top))

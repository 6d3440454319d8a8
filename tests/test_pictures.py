"""What all pictures of stages share: computed ahead of time, and no denser than can be seen."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QRectF

from yellow_ember.app.pictures.ahead import PicturesAhead
from yellow_ember.app.widgets.plot import Axes
from yellow_ember.dsp.parameters import Values
from yellow_ember.dsp.stage import Picture, StageKind
from yellow_ember.dsp.stages import stage_kind


def test_pictures_are_computed_ahead_and_left_where_the_program_ends() -> None:
    seen: list[str] = []

    def kind(name: str) -> StageKind:
        def picture(values: Values, rate: float, reference_dbfs: float) -> Picture:
            seen.append(name)
            return stage_kind("drive").picture(values, rate, reference_dbfs)

        return replace(stage_kind("drive"), picture=picture)

    ahead = PicturesAhead([kind("first"), kind("second")])
    ahead.wait()
    assert seen == ["first", "second"]
    whole = PicturesAhead()
    whole.close()
    whole.close()


def test_a_dense_line_is_thinned_to_what_can_be_seen() -> None:
    axes = Axes(QRectF(0.0, 0.0, 300.0, 100.0), 0.0, 1.0, -1.0, 1.0)
    x = np.linspace(0.0, 1.0, 30001)
    y = 0.8 * np.sin(2.0 * np.pi * 900.3 * x)
    points = axes.polygon(x, y)
    heights = np.array([points.at(index).y() for index in range(points.size())])
    assert points.size() <= 2 * 301
    assert heights.min() == pytest.approx(10.0, abs=0.1)
    assert heights.max() == pytest.approx(90.0, abs=0.1)
    few = axes.polygon(x[::100], y[::100])
    assert few.size() == 301

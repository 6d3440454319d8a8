"""Charts of how cost grows: lines lie where their values are, tables hold them."""

from __future__ import annotations

import re
from xml.etree import ElementTree

import pytest

from charts import Chart, picture, tables

CHART = Chart("Load & length", "frames", "share", (10, 100, 1000), {"one": (0.1, 1.0, 10.0), "two": (0.2, 0.4, 0.8)})


def test_a_picture_holds_every_line_with_a_point_for_each_place() -> None:
    root = ElementTree.fromstring(picture([CHART, CHART, CHART]))
    space = "{http://www.w3.org/2000/svg}"
    assert len(root.findall(f".//{space}polyline")) == 6
    assert len(root.findall(f".//{space}circle")) == 18
    assert "Load & length" in [text.text for text in root.iter(f"{space}text")]


def test_tenfold_values_at_tenfold_places_lie_on_a_straight_line() -> None:
    points = re.search(r'points="([^"]+)"', picture([CHART]))
    assert points is not None
    (x0, y0), (x1, y1), (x2, y2) = (map(float, point.split(",")) for point in points[1].split())
    assert x1 - x0 == pytest.approx(x2 - x1, abs=0.2)
    assert y0 - y1 == pytest.approx(y1 - y2, abs=0.2)
    assert y0 > y2


def test_tables_hold_the_values() -> None:
    lines = tables([CHART]).splitlines()
    assert "| frames | 10 | 100 | 1000 |" in lines
    assert "| two | 0.2 | 0.4 | 0.8 |" in lines

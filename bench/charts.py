"""Charts of how cost grows, as SVG and as tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape

import numpy as np

_WIDTH, _HEIGHT, _LEFT, _TOP, _PLOT_WIDTH, _PLOT_HEIGHT = 460, 330, 64, 36, 370, 230
_COLOURS = ("#b5651d", "#2f6f8f")


@dataclass(frozen=True, slots=True)
class Chart:
    """Lines over one axis, both logarithmic; lines : by their names, a value at each place"""

    title: str
    x_label: str
    y_label: str
    places: Sequence[float]
    lines: Mapping[str, Sequence[float]]


def picture(made: Sequence[Chart]) -> str:
    """All charts as SVG, two in a row."""
    rows = (len(made) + 1) // 2
    parts = [f'<svg xmlns="http://www.w3.org/2000/svg" width="{2 * _WIDTH}" height="{rows * _HEIGHT}" '
             'font-family="sans-serif" font-size="11">', '<rect width="100%" height="100%" fill="white"/>']
    for index, chart in enumerate(made):
        parts += [f'<g transform="translate({index % 2 * _WIDTH} {index // 2 * _HEIGHT})">', *_drawn(chart), "</g>"]
    return "\n".join([*parts, "</svg>"]) + "\n"


def _drawn(chart: Chart) -> list[str]:
    values = [value for line in chart.lines.values() for value in line]
    low, high = 10.0 ** np.floor(np.log10(min(values))), 10.0 ** np.ceil(np.log10(max(values)))

    def x_of(place: float) -> float:
        first, last = np.log10(chart.places[0]), np.log10(chart.places[-1])
        return float(_LEFT + _PLOT_WIDTH * (np.log10(place) - first) / (last - first))

    def y_of(value: float) -> float:
        return float(_TOP + _PLOT_HEIGHT * (1.0 - np.log10(value / low) / np.log10(high / low)))

    bottom = _TOP + _PLOT_HEIGHT
    parts = [f'<text x="{_LEFT}" y="20" font-size="13" font-weight="bold">{escape(chart.title)}</text>',
             f'<text x="{_LEFT + _PLOT_WIDTH / 2}" y="{bottom + 34}" text-anchor="middle">{chart.x_label}</text>',
             f'<text transform="translate(14 {_TOP + _PLOT_HEIGHT / 2}) rotate(-90)" text-anchor="middle">'
             f'{chart.y_label}</text>']
    for place in chart.places:
        parts += [f'<line x1="{x_of(place):.1f}" x2="{x_of(place):.1f}" y1="{_TOP}" y2="{bottom}" stroke="#ddd"/>',
                  f'<text x="{x_of(place):.1f}" y="{bottom + 15}" text-anchor="middle">{place:g}</text>']
    for power in range(round(np.log10(low)), round(np.log10(high)) + 1):
        y = y_of(10.0**power)
        parts += [f'<line x1="{_LEFT}" x2="{_LEFT + _PLOT_WIDTH}" y1="{y:.1f}" y2="{y:.1f}" stroke="#ddd"/>',
                  f'<text x="{_LEFT - 5}" y="{y + 4:.1f}" text-anchor="end">{10.0**power:g}</text>']
    for number, ((name, line), colour) in enumerate(zip(chart.lines.items(), _COLOURS, strict=False)):
        points = [(x_of(place), y_of(value)) for place, value in zip(chart.places, line, strict=True)]
        joined = " ".join(f"{x:.1f},{y:.1f}" for x, y in points)
        dashes = ' stroke-dasharray="6 3"' * number
        parts += [f'<polyline points="{joined}" fill="none" stroke="{colour}" stroke-width="2"{dashes}/>',
                  *(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="3" fill="{colour}"/>' for x, y in points),
                  f'<text x="{_LEFT + _PLOT_WIDTH * number}" y="{bottom + 34}" fill="{colour}" '
                  f'text-anchor="{("start", "end")[number]}">{name}</text>']
    return parts


def tables(made: Sequence[Chart]) -> str:
    """The figures of all charts, as Markdown."""
    parts = []
    for chart in made:
        parts += [f"### {chart.title}", "",
                  f"| {chart.x_label} | {' | '.join(f'{place:g}' for place in chart.places)} |",
                  "|---" * (1 + len(chart.places)) + "|"]
        parts += [f"| {name} | {' | '.join(f'{value:.3g}' for value in line)} |" for name, line in chart.lines.items()]
        parts.append("")
    return "\n".join(parts)

#!/usr/bin/env python3
"""Draw the stocks' record curves over those of the simulation, as docs/models/tape-curves.svg.

Usage: draw_tape_curves.py SIMULATED.npz

SIMULATED is what `make_bias_curves.py` takes: remanence by stock, bias and signal.
"""

import sys
from pathlib import Path

import numpy as np

from yellow_ember.dsp.tape.model import STOCKS, remanence

_TARGET = Path(__file__).parents[1] / "docs" / "models" / "tape-curves.svg"
_WIDTH, _HEIGHT, _MARGIN, _GAP = 300.0, 230.0, 40.0, 18.0
_BIASES = ((-6.0, "#7a8fb5"), (0.0, "#d39b1f"), (4.0, "#4f6f52"))
_FIELD_DB, _LOSS_DB = (-30.0, 12.0), (-42.0, 3.0)


def points(field_db: np.ndarray, magnetised: np.ndarray, left: float, top: float) -> str:
    """Points of a line: field in dB over coercivity against remanence in dB."""
    level = 20.0 * np.log10(np.maximum(magnetised, 1e-6))
    x = left + (field_db - _FIELD_DB[0]) / (_FIELD_DB[1] - _FIELD_DB[0]) * _WIDTH
    y = top + (_LOSS_DB[1] - level) / (_LOSS_DB[1] - _LOSS_DB[0]) * _HEIGHT
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x, y, strict=True) if top <= b <= top + _HEIGHT)


def main() -> None:
    simulated = np.load(sys.argv[1])
    signal_db, bias_db = simulated["signal_db_re_hc"], simulated["bias_db_re_hc"]
    shown = (signal_db >= _FIELD_DB[0]) & (signal_db <= _FIELD_DB[1])
    parts, fine = [], np.linspace(*_FIELD_DB, 200)
    for index, stock in enumerate(STOCKS[:len(simulated["remanence"])]):
        left = _MARGIN + index % 2 * (_WIDTH + _MARGIN + _GAP)
        top = _MARGIN + index // 2 * (_HEIGHT + _MARGIN + _GAP)
        parts.append(f'<rect x="{left}" y="{top}" width="{_WIDTH}" height="{_HEIGHT}" fill="none" stroke="#999"/>'
                     f'<text x="{left}" y="{top - 6}">{stock.label}</text>'
                     f'<text x="{left}" y="{top + _HEIGHT + 16}">field {_FIELD_DB[0]:g} to {_FIELD_DB[1]:g} dB over '
                     f'coercivity; remanence {_LOSS_DB[0]:g} to {_LOSS_DB[1]:g} dB</text>')
        # The simulation's saturation is that of its particles; a stock's height says how much of it a track has.
        table = simulated["remanence"][index]
        aligned = simulated["nominal_bias_db_re_hc"][index]
        quiet = 10.0 ** (-20.0 / 20.0)
        nominal = table[int(np.argmin(np.abs(bias_db - aligned)))]
        scale = float(remanence(np.array([quiet]), stock, 0.0)[0] / np.interp(-20.0, signal_db, nominal))
        for bias, colour in _BIASES:
            row = table[int(np.argmin(np.abs(bias_db - aligned - bias)))]
            dots = points(signal_db[shown], scale * row[shown], left, top)
            line = points(fine, remanence(10.0 ** (fine / 20.0), stock, bias), left, top)
            parts.append(f'<polyline points="{dots}" fill="none" stroke="{colour}" stroke-width="4" opacity="0.3"/>'
                         f'<polyline points="{line}" fill="none" stroke="{colour}" stroke-width="1.2"/>')
    width, height = 2 * _WIDTH + 3 * _MARGIN + _GAP, 2 * (_HEIGHT + _MARGIN) + _MARGIN + _GAP + 20
    legend = "".join(f'<tspan fill="{colour}"> bias {bias:+g} dB</tspan>' for bias, colour in _BIASES)
    parts.append(f'<text x="{_MARGIN}" y="{height - 8}">thin: the product; broad: the simulation;{legend}</text>')
    _TARGET.write_text(f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:g}" height="{height:g}" '
                       'font-family="sans-serif" font-size="11"><rect width="100%" height="100%" fill="white"/>\n'
                       + "\n".join(parts) + "\n</svg>\n", "utf-8")


if __name__ == "__main__":
    main()

#!/usr/bin/env python3
"""Measure the heat and brightness of every shipped preset on one sound, for the preset browser.

The sound is the demo's dry mix, and then its drums alone, for what answers strokes.

Usage: measure_presets.py [--check]     --check measures nothing and fails where a preset has no figures
"""

import json
import sys

import numpy as np

from yellow_ember.cli import DEMO
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.stage import Setup
from yellow_ember.files.reading import read_blocks
from yellow_ember.measure.character import character
from yellow_ember.session.presets import FIGURES_FILE, shipped_presets
from yellow_ember.session.session_file import read_session

_SECONDS, _STROKES_SECONDS, _SETTLE_SECONDS, _BLOCK = 5.0, 3.0, 1.0, 4096
_FACTOR = 4


def mixed(names: tuple[str, ...], seconds: float) -> np.ndarray:
    """Tracks of the demo as they are, summed, two channels at -18 dBFS; all where no names are given."""
    session = read_session(DEMO)
    frames = round(seconds * session.rate)
    total = np.zeros((2, frames))
    for strip in session.strips:
        if strip.audio is not None and (not names or strip.id in names):
            start, taken = session.loop.start, 0
            for block in read_blocks(strip.audio):
                skipped = min(start, block.shape[1])
                start -= skipped
                part = block[:, skipped:skipped + frames - taken]
                total[:, taken:taken + part.shape[1]] += part
                taken += part.shape[1]
    return total * (10.0 ** (-18.0 / 20.0) / total.std())


def reference() -> tuple[np.ndarray, int]:
    """The sound that all are measured on, and its rate."""
    return np.concatenate((mixed((), _SETTLE_SECONDS + _SECONDS), mixed(("brushed-drums",), _STROKES_SECONDS)),
                          axis=1), read_session(DEMO).rate


def main() -> int:
    names = {preset.name for preset in shipped_presets()}
    known = json.loads(FIGURES_FILE.read_text("utf-8")) if FIGURES_FILE.exists() else {}
    if "--check" in sys.argv[1:]:
        for name in sorted(names ^ set(known)):
            print(f"{name}: run script/measure_presets.py", file=sys.stderr)
        return 1 if names != set(known) else 0
    before, rate = reference()
    settle = round(_SETTLE_SECONDS * rate)
    figures = {}
    for preset in shipped_presets():
        chain = Chain(Setup(rate, 2, _BLOCK, _FACTOR), preset.stages)
        late = chain.latency
        after = np.concatenate((before, np.zeros((2, late + _BLOCK))), axis=1)
        for start in range(0, after.shape[1] - _BLOCK + 1, _BLOCK):
            part = np.ascontiguousarray(after[:, start:start + _BLOCK])
            chain.process(part)
            after[:, start:start + _BLOCK] = part
        found = character(before[:, settle:], after[:, settle + late:late + before.shape[1]], rate)
        figures[preset.name] = {"heat_db": round(found.heat_db, 1), "brightness": round(found.brightness, 2)}
    FIGURES_FILE.write_text(json.dumps(figures, indent=1, sort_keys=True) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())

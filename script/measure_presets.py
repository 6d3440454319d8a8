#!/usr/bin/env python3
"""Measure every shipped preset: what it adds and brightness on one sound, and what makes it as loud as it was before.

The sound is the demo's dry mix, and then its drums alone, for what answers strokes.  Loudness is matched on the part
of the demo that suits the preset, and written into its file.

Usage: measure_presets.py [--check]     --check measures nothing and fails where a preset has no figures
"""

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from yellow_ember.cli import DEMO
from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.files.reading import read_blocks
from yellow_ember.measure.character import character
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.io.presets import FIGURES_FILE, PRESET_FORMAT, SHIPPED, SUITABLE, read_preset, shipped_presets
from yellow_ember.session.io.session_file import read_session
from yellow_ember.session.io.sets import SET_FORMAT, SHIPPED_SETS, read_set

_SECONDS, _STROKES_SECONDS, _SETTLE_SECONDS, _BLOCK = 5.0, 3.0, 1.0, 4096
_FACTOR = 4


def mixed(names: tuple[str, ...], seconds: float) -> np.ndarray:
    """Tracks of the demo as they are, summed, two channels at -18 dBFS; all where no names are given."""
    session = read_session(DEMO)
    frames = round(seconds * session.rate)
    total = np.zeros((2, frames))
    for strip in session.strips:
        if strip.files and (not names or strip.id in names):
            start, taken = session.loop.start, 0
            for block in read_blocks(strip.files[0]):
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


def write_match(path: Path, index: Callable[[dict[str, Any]], dict[str, Any]], match_db: float, version: int) -> None:
    """Into a preset's file, or into a part of a set's."""
    result = json.loads(path.read_text("utf-8"))
    result["version"] = version
    index(result)["match_db"] = round(match_db, 2)
    path.write_text(json.dumps(result, indent=1) + "\n", encoding="utf-8")


def matched(stages: tuple[StageSettings, ...], source: str, rate: int) -> float:
    """What makes a chain as loud as its input, on the part of the demo that suits the source."""
    before = mixed(SUITABLE.get(source, ()), _SETTLE_SECONDS + _SECONDS)
    settle = round(_SETTLE_SECONDS * rate)
    after = run_whole(Chain(Setup(rate, 2, _BLOCK, _FACTOR), stages), before, _BLOCK)
    return (loudness(before[:, settle:], rate).integrated_lufs - loudness(after[:, settle:], rate).integrated_lufs)


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
        after = run_whole(Chain(Setup(rate, 2, _BLOCK, _FACTOR), preset.stages), before, _BLOCK)
        result = character(before[:, settle:], after[:, settle:], rate)
        figures[preset.name] = {"added_db": round(result.added_db, 1), "brightness": round(result.brightness, 2)}
    for path in SHIPPED.glob("*.json"):
        preset = read_preset(path)
        write_match(path, lambda result: result, matched(preset.stages, preset.source, rate), PRESET_FORMAT.version)
    for path in SHIPPED_SETS.glob("*.json"):
        for index, part in enumerate(read_set(path).parts):
            write_match(path, lambda result, at=index: result["parts"][at], matched(part.stages, part.source, rate),
                        SET_FORMAT.version)
    FIGURES_FILE.write_text(json.dumps(figures, indent=1, sort_keys=True) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())

#!/usr/bin/env python3
"""Measure every shipped preset on the common sound, and what makes it as loud as what goes in.

Loudness is matched on the part of the demo that suits the preset, and written into its file.

Usage: measure_presets.py [--check | --figures]
    --check measures nothing and fails where a preset has no figures; --figures leaves the matches as they are
"""

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yellow_ember.dsp.chain import Chain, run_whole
from yellow_ember.dsp.stage import Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.engine.jobs.preset_figures import BLOCK, FACTOR, SETTLE_SECONDS, demo_mix, figures_of
from yellow_ember.measure.loudness import loudness
from yellow_ember.session.io.presets import (
    FIGURES_FILE,
    PRESET_FORMAT,
    SHIPPED,
    SUITABLE,
    read_figures,
    read_preset,
    shipped_presets,
    write_figures,
)
from yellow_ember.session.io.sets import SET_FORMAT, SHIPPED_SETS, read_set

_SECONDS = 5.0


def write_match(path: Path, index: Callable[[dict[str, Any]], dict[str, Any]], match_db: float, version: int) -> None:
    """Into a preset's file, or into a part of a set's."""
    result = json.loads(path.read_text("utf-8"))
    result["version"] = version
    index(result)["match_db"] = round(match_db, 2)
    path.write_text(json.dumps(result, indent=1) + "\n", encoding="utf-8")


def matched(stages: tuple[StageSettings, ...], source: str) -> float:
    """What makes a chain as loud as its input, on the part of the demo that suits the source."""
    before, rate = demo_mix(SUITABLE.get(source, ()), SETTLE_SECONDS + _SECONDS)
    settle = round(SETTLE_SECONDS * rate)
    after = run_whole(Chain(Setup(rate, 2, BLOCK, FACTOR), stages), before, BLOCK)
    return (loudness(before[:, settle:], rate).integrated_lufs - loudness(after[:, settle:], rate).integrated_lufs)


def write_matches() -> None:
    for path in SHIPPED.glob("*.json"):
        preset = read_preset(path)
        write_match(path, lambda result: result, matched(preset.stages, preset.source), PRESET_FORMAT.version)
    for path in SHIPPED_SETS.glob("*.json"):
        for index, part in enumerate(read_set(path).parts):
            write_match(path, lambda result, at=index: result["parts"][at], matched(part.stages, part.source),
                        SET_FORMAT.version)


def main() -> int:
    names = {preset.name for preset in shipped_presets()}
    if "--check" in sys.argv[1:]:
        known = set(read_figures(FIGURES_FILE))
        for name in sorted(names ^ known):
            print(f"{name}: run script/measure_presets.py", file=sys.stderr)
        return 1 if names != known else 0
    write_figures(FIGURES_FILE, {preset.name: figures_of(preset.stages) for preset in shipped_presets()})
    if "--figures" not in sys.argv[1:]:
        write_matches()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())

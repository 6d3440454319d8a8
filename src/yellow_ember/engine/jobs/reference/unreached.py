"""What no chain can do for a strip, in sentences."""

from __future__ import annotations

import numpy as np

from yellow_ember.measure.likeness.distance import Distance, Respect
from yellow_ember.measure.likeness.portrait import Portrait

_FAR_STEPS = 2.5
_WIDE_DB = -25.0
"""Side against middle from which on a recording is heard as wide."""


def unreached(strip: Portrait, reference: Portrait, best: Distance) -> tuple[str, ...]:
    """In which respects even the best proposal is far from the reference, and why as far as that is known."""
    reasons = {Respect.TONE: _tone, Respect.ADDED: _added, Respect.DYNAMICS: _dynamics, Respect.NOISE: _noise,
               Respect.MOTION: _motion, Respect.WIDTH: _width}
    lacking = [reasons[respect](strip, reference) for respect in Respect
               if best.sure[respect] > 0.3 and best.steps[respect] > _FAR_STEPS]
    if strip.width.sure == 0.0 and reference.width.sure > 0.0 and np.mean(reference.width.side_db) > _WIDE_DB:
        lacking.append("Width: the reference is wide, and this strip has one channel.")
    return tuple(lacking)


def _tone(strip: Portrait, reference: Portrait) -> str:
    if reference.tone.high_hz > 1.5 * strip.tone.high_hz:
        return (f"Tone: the reference has highs up to {reference.tone.high_hz / 1000.0:.1f} kHz, which this strip "
                f"lacks above {strip.tone.high_hz / 1000.0:.1f} kHz.")
    if reference.tone.low_hz < strip.tone.low_hz / 1.5:
        return (f"Tone: the reference has lows down to {reference.tone.low_hz:.0f} Hz, which this strip lacks below "
                f"{strip.tone.low_hz:.0f} Hz.")
    apart = reference.tone.loud_db - reference.tone.quiet_db - (strip.tone.loud_db - strip.tone.quiet_db)
    if float(np.abs(apart).mean()) > 4.0:
        return "Tone: the reference's loud and quiet notes differ more in tone than this strip's."
    return "Tone: other notes or another instrument: their spectra are too far apart."


def _added(strip: Portrait, reference: Portrait) -> str:
    if float(np.mean(reference.density.tonal_db - strip.density.tonal_db)) > 3.0:
        return "Added: the reference is cleaner than this strip, and no stage takes distortion away."
    return "Added: the reference is denser than any chain makes this strip."


def _dynamics(strip: Portrait, reference: Portrait) -> str:
    if float(np.mean(reference.dynamics.crest_db - strip.dynamics.crest_db)) > 2.0:
        return "Dynamics: the reference has higher peaks than this strip, and no stage brings peaks back."
    return "Dynamics: the reference is more even than any chain makes this strip."


def _noise(strip: Portrait, reference: Portrait) -> str:
    if strip.floor.total_db > reference.floor.total_db + 3.0:
        return "Noise: this strip is noisier between its notes than the reference, or its notes leave no gap."
    return "Noise: what is heard between the reference's notes may be its room, or notes that ring on."


def _motion(strip: Portrait, reference: Portrait) -> str:
    if strip.speed.wow_pct + strip.speed.flutter_pct > reference.speed.wow_pct + reference.speed.flutter_pct:
        return "Motion: this strip's pitch moves more than the reference's; vibrato counts too."
    return "Motion: the reference's pitch moves more than any chain moves this strip's; vibrato counts too."


def _width(strip: Portrait, reference: Portrait) -> str:
    wider = np.mean(reference.width.side_db - strip.width.side_db) > 0.0
    return f"Width: the reference is {'wider' if wider else 'narrower'} than any chain makes this strip."

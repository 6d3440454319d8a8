"""Taking a strip's colour apart: what each stage adds over the loop, and of what kind all of it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.chain import run_whole
from yellow_ember.engine.jobs.job import Progress
from yellow_ember.engine.jobs.loop_running import run_in_loop, strip_chain
from yellow_ember.engine.jobs.measuring import BLOCK, capture_strip
from yellow_ember.measure.anatomy import PROBE_HZ, Anatomy, anatomy
from yellow_ember.measure.comparison import compare
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session

_PROBE_SECONDS, _SETTLE_SECONDS = 1.0, 0.5
_QUIETEST_DB, _LOUDEST_DB = -40.0, -6.0


@dataclass(frozen=True, slots=True)
class Dissection:
    """stages : what each adds to what enters it, in dB below the signal, by id; kinds : of all stages together"""

    strip_id: str
    stages: dict[str, float]
    kinds: Anatomy


def dissect_strip(progress: Progress, session: Session, strip_id: str) -> Dissection:
    """Run the strip's loop as far as each stage, then probe tones and silence through its chain."""
    strip = session.strip(strip_id)
    works = [stage for stage in strip.chain if stage.on]
    steps = len(works) + 2
    dry = capture_strip(lambda share: progress(share / steps), edit_strip(
        session, strip_id, lambda old: old.with_(chain=())), strip_id)
    sound, added = dry.before, {}
    for done, stage in enumerate(works):
        entering = sound
        sound = run_in_loop(strip_chain(session, strip_id, (stage,), entering.shape[0]), entering, dry.loop.start,
                            session.rate)
        added[stage.id] = compare(entering, sound, session.rate, loop=True).added_db
        progress((done + 2) / steps)
    level = float(np.sqrt(np.mean(dry.before**2))) * np.sqrt(2.0)
    level = min(max(level, gain(_QUIETEST_DB)), gain(_LOUDEST_DB))
    frames = round(_PROBE_SECONDS * session.rate)
    time = np.arange(frames + round(_SETTLE_SECONDS * session.rate)) / session.rate
    channels = dry.before.shape[0]

    def through(sound: Samples) -> Samples:
        return run_whole(strip_chain(session, strip_id, strip.chain, channels), sound, BLOCK)[:, -frames:]

    probes = [(hz, through(np.tile(level * np.sin(2.0 * np.pi * hz * time), (channels, 1)))) for hz in PROBE_HZ]
    silence = through(np.zeros((channels, time.size)))
    return Dissection(strip_id, added, anatomy(probes, silence, session.rate))

"""Taking a strip's colour apart: what each stage adds over the loop, and of what kind all of it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.chain import Chain, StageSettings
from yellow_ember.dsp.stage import Clock, Setup
from yellow_ember.engine.jobs import Progress
from yellow_ember.engine.measuring import BLOCK, capture_strip
from yellow_ember.files.impulses import find_impulse
from yellow_ember.measure.anatomy import PROBE_HZ, Anatomy, anatomy
from yellow_ember.measure.heat import compare
from yellow_ember.session.edits import edit_strip
from yellow_ember.session.model import Session

_PROBE_SECONDS, _SETTLE_SECONDS = 1.0, 0.5
_QUIETEST_DB, _LOUDEST_DB = -40.0, -6.0


@dataclass(frozen=True, slots=True)
class Dissection:
    """stages : what each adds to what enters it, in dB of heat, by id; kinds : of all stages together"""

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
        sound = _through(session, strip_id, (stage,), entering, dry.loop.start)
        added[stage.id] = compare(entering, sound, session.rate, loop=True).heat_db
        progress((done + 2) / steps)
    level = float(np.sqrt(np.mean(dry.before**2))) * np.sqrt(2.0)
    level = min(max(level, gain(_QUIETEST_DB)), gain(_LOUDEST_DB))
    frames = round(_PROBE_SECONDS * session.rate)
    time = np.arange(frames + round(_SETTLE_SECONDS * session.rate)) / session.rate
    channels = dry.before.shape[0]
    probes = []
    for hz in PROBE_HZ:
        tone = np.tile(level * np.sin(2.0 * np.pi * hz * time), (channels, 1))
        probes.append((hz, _through(session, strip_id, strip.chain, tone, 0, whole=False)[:, -frames:]))
    silence = _through(session, strip_id, strip.chain, np.zeros((channels, time.size)), 0, whole=False)[:, -frames:]
    return Dissection(strip_id, added, anatomy(probes, silence, session.rate))


def _through(session: Session, strip_id: str, stages: tuple[StageSettings, ...], sound: Samples, start: int, *,
             whole: bool = True) -> Samples:
    """A sound through stages, its latency taken off; `whole`: a turn of a loop that came round before."""
    channels, frames = sound.shape
    clock = Clock(tempo=session.tempo, beats_per_bar=session.beats_per_bar)
    seed = session.seed * 1009 + sum(strip_id.encode())
    chain = Chain(Setup(session.rate, channels, BLOCK, session.quality.live, session.reference_dbfs, seed,
                        read_impulse=find_impulse, clock=clock), stages)
    settle = min(round(_SETTLE_SECONDS * session.rate), frames) if whole else 0
    places = np.arange(-settle, frames + chain.latency)
    run = np.ascontiguousarray(sound[:, places % frames]) if whole else np.concatenate(
        (sound, np.zeros((channels, chain.latency))), axis=1)
    clock.frame = start - settle
    for at in range(0, run.shape[1], BLOCK):
        part = np.ascontiguousarray(run[:, at:at + BLOCK])
        chain.process(part)
        run[:, at:at + BLOCK] = part
    late = settle + chain.latency
    return run[:, late:late + frames]

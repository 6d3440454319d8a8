"""The tempo of a recording, from where its notes begin."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples

SLOWEST, FASTEST = 40.0, 240.0
"""Beats a minute between which a tempo is looked for."""
_HOP_SECONDS = 0.005
_WINDOW_SECONDS = 0.023
_BAND_EDGES_HZ = (30.0, 120.0, 300.0, 800.0, 2500.0, 6000.0, 14000.0)
_LOCAL_SECONDS = 0.4
"""Onsets are counted against what is usual so near to them."""
_LIKELIEST, _OCTAVES = 110.0, 1.0
"""The tempo that is taken for likeliest, and the standard deviation round it."""
_MULTIPLES = (1.0, 2.0, 4.0)
"""Beats after which a rhythm is like itself."""
_EVENNESS, _PULSE = 3.0, 0.3
"""How much it counts that no beat is weaker than its neighbours, and that there is a pulse at the beat's frequency."""
_BAND_WEIGHTS = (1.5, 1.2, 1.0, 1.0, 0.6, 0.4)
"""What is low tells the beat, what is high often its divisions."""
_STRETCH_SECONDS, _STRETCH_STEP = 12.0, 3.0
_SHORTEST_SECONDS = 4.0
_BEFORE_SECONDS = 0.1
_FAINT = 1e-6
_BEGINS = 0.2
"""What is so strong an onset against the strongest is where a recording begins."""
_SAME = 0.04
"""Tempi that are no farther apart, as a share, are one."""
_RETRY = 0.03
"""How far the exact tempo may lie from the first estimate, as a share."""


@dataclass(frozen=True, slots=True)
class TempoReading:
    """A tempo.

    Attributes
    ----------
    bpm : float
        Beats a minute.
    confidence : float
        0 to 1: how much more it agrees with the sound than any other tempo.
    others : tuple[float, ...]
        Half and double, as far as they are tempi.
    first_beat : float
        Where the first beat is that something begins on, in seconds.
    """

    bpm: float
    confidence: float
    others: tuple[float, ...]
    first_beat: float = 0.0


def read_tempo(sound: Samples, rate: float) -> TempoReading:
    """Return the tempo of a sound (frames,).

    Spectral flux in bands (after Bello et al., IEEE Trans. Speech and Audio Processing 13, 2005), likeness at multiples
    of the beat, then the frequency at which the onsets of short stretches agree best.

    Raises
    ------
    ValueError
        Where the sound is too short, or nothing begins in it.
    """
    if sound.size < _SHORTEST_SECONDS * rate:
        raise ValueError(f"a tempo takes {_SHORTEST_SECONDS:g} seconds of sound at least")
    # A sound that begins at once begins with an onset too.
    onsets = onset_strength(np.concatenate((np.zeros(round(_BEFORE_SECONDS * rate)), sound)), rate)
    if onsets.max() <= 0.0:
        raise ValueError("there are no notes that begin")
    tempi = np.geomspace(SLOWEST, FASTEST, 600)
    likeness, pulse = _likeness(onsets), _pulse(onsets, tempi)
    scores = _agreement(likeness, 60.0 / tempi / _HOP_SECONDS) * (pulse / pulse.max()) ** _PULSE
    scores *= np.exp(-0.5 * (np.log2(tempi / _LIKELIEST) / _OCTAVES) ** 2)
    first = float(tempi[np.argmax(scores)])
    bpm = _refined(onsets, first)
    others = scores[np.abs(np.log(tempi / bpm)) > _SAME]
    confidence = max(0.0, 1.0 - float(others.max(initial=0.0)) / max(float(scores.max()), _FAINT))
    related = tuple(other for other in (bpm / 2.0, bpm * 2.0) if SLOWEST <= other <= FASTEST)
    return TempoReading(bpm, confidence, related, max(0.0, _first_beat(onsets, bpm) - _BEFORE_SECONDS))


def onset_strength(sound: Samples, rate: float) -> Samples:
    """How much begins, every 5 ms: the rise of the loudness in bands, each against what is usual near it."""
    size = 2 ** round(math.log2(_WINDOW_SECONDS * rate))
    hop = _HOP_SECONDS * rate
    count = int((sound.size - size) / hop)
    starts = (np.arange(count) * hop).astype(np.int64)
    window, edges = np.hanning(size), np.array(_BAND_EDGES_HZ) * size / rate
    bins = np.unique(np.clip(edges.astype(np.int64), 1, size // 2))
    loudness = np.empty((count, len(bins) - 1))
    for first in range(0, count, 2048):
        frames = sound[starts[first:first + 2048, None] + np.arange(size)] * window
        power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
        loudness[first:first + 2048] = np.log1p(1e4 * np.add.reduceat(power, bins, axis=1)[:, :-1] / size)
    rise = np.maximum(loudness[2:] - loudness[:-2], 0.0)
    rise = np.concatenate((np.zeros((1, rise.shape[1])), rise, np.zeros((1, rise.shape[1]))))
    spread = rise.std(axis=0)
    strength = (rise / np.where(spread > 0.0, spread, 1.0)) @ np.array(_BAND_WEIGHTS[:rise.shape[1]])
    usual = np.convolve(strength, np.ones(around := 2 * round(_LOCAL_SECONDS / _HOP_SECONDS) + 1) / around, "same")
    return np.asarray(np.maximum(strength - usual, 0.0))


def _likeness(onsets: Samples) -> Samples:
    """Autocorrelation of the onsets, 1 at no distance; short differences in time are forgiven."""
    kernel = np.hanning(9)
    smooth = np.convolve(onsets, kernel / kernel.sum(), "same")
    smooth -= smooth.mean()
    size = 2 ** math.ceil(math.log2(2 * smooth.size))
    spectrum = np.fft.rfft(smooth, size)
    result = np.fft.irfft(np.abs(spectrum) ** 2)[:smooth.size]
    result /= np.arange(smooth.size, 0, -1) / smooth.size
    return np.asarray(result / max(float(result[0]), 1e-30))


def _agreement(likeness: Samples, periods: Samples) -> Samples:
    """How well beats of each period (in hops) agree with the likeness."""
    def after(beats: float) -> Samples:
        lags = beats * periods
        return np.asarray(np.where(lags < likeness.size / 2, np.interp(lags, np.arange(likeness.size), likeness), 0.0))

    one, two = after(1.0), after(2.0)
    beats = np.maximum(np.mean([after(multiple) for multiple in _MULTIPLES], axis=0), 0.0)
    # Between beats less begins than on them: what is far more like itself at twice the distance is half a beat.
    evenness = np.clip(one / np.maximum(two, _FAINT), 0.0, 1.0)
    divided = np.clip(after(0.5) / np.maximum(one, _FAINT), 0.0, 1.0)
    return np.asarray(beats * evenness**_EVENNESS * (1.0 + divided))


def _pulse(onsets: Samples, tempi: Samples) -> Samples:
    """How much the onsets of short stretches pulse at tempi, on average over the stretches."""
    length = min(onsets.size, round(_STRETCH_SECONDS / _HOP_SECONDS))
    step = max(1, round(_STRETCH_STEP / _HOP_SECONDS))
    waves = np.exp(-2j * np.pi * tempi[:, None] / 60.0 * np.arange(length) * _HOP_SECONDS) * np.hanning(length)
    starts = range(0, onsets.size - length + 1, step)
    return np.asarray(np.sum([np.abs(waves @ onsets[start:start + length]) for start in starts], axis=0))


def _first_beat(onsets: Samples, bpm: float) -> float:
    """Where beats of a tempo begin that agree best with the onsets of the first stretch, in seconds."""
    period = 60.0 / bpm / _HOP_SECONDS
    heard = int(np.argmax(onsets > _BEGINS * onsets.max()))
    length = min(onsets.size - heard, round(_STRETCH_SECONDS / _HOP_SECONDS))
    # Onsets are counted from hop to hop: a comb of beats at every tenth of a hop.
    smooth = np.convolve(onsets[heard:heard + length], np.hanning(7), "same")
    beats = np.arange(0.0, length - period, period)
    offsets = np.arange(0.0, period, 0.1)
    strength = [np.interp(beats + offset, np.arange(length), smooth).sum() for offset in offsets]
    place = heard + float(offsets[np.argmax(strength)])
    # A beat that begins just before something is heard is that one.
    place -= period if place - heard > 0.85 * period else 0.0
    return (place + 1.0) * _HOP_SECONDS + 0.5 * _WINDOW_SECONDS


def _refined(onsets: Samples, bpm: float) -> float:
    """The tempo near an estimate at whose frequency, and at twice and four times that, stretches pulse most."""
    tempi = bpm * np.linspace(1.0 - _RETRY, 1.0 + _RETRY, 121)
    total = np.sum([_pulse(onsets, harmonic * tempi) for harmonic in (1.0, 2.0, 4.0)], axis=0)
    best = int(np.argmax(total))
    if 0 < best < tempi.size - 1:
        a, b, c = total[best - 1:best + 2]
        shift = 0.5 * (a - c) / (a - 2.0 * b + c) if a - 2.0 * b + c != 0.0 else 0.0
        return float(tempi[best] + shift * (tempi[1] - tempi[0]))
    return float(tempi[best])

"""The textures: two seconds each, computed, that go round without a seam.  Model: docs/models/texture.md."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples

RATE = 48000.0
FRAMES = 96000
_HZ = np.fft.rfftfreq(FRAMES, 1.0 / RATE)


def _band(rng: np.random.Generator, low: float, high: float, slope_db: float = 0.0) -> Samples:
    """Noise between two frequencies, tipped by some dB an octave; 12 dB an octave beyond."""
    shape = 1.0 / np.sqrt(1.0 + (low / np.maximum(_HZ, 1.0)) ** 4) / np.sqrt(1.0 + (_HZ / high) ** 4)
    tip = (np.maximum(_HZ, 20.0) / np.sqrt(low * high)) ** (slope_db / 6.02)
    return np.asarray(np.fft.irfft(np.fft.rfft(rng.standard_normal(FRAMES)) * shape * tip, FRAMES))


def _through(signal: Samples, low: float, high: float) -> Samples:
    shape = 1.0 / np.sqrt(1.0 + (low / np.maximum(_HZ, 1.0)) ** 4) / np.sqrt(1.0 + (_HZ / high) ** 4)
    return np.asarray(np.fft.irfft(np.fft.rfft(signal) * shape, FRAMES))


def _grains(rng: np.random.Generator, a_second: float, heavy: float = 1.0) -> Samples:
    """Pulses at random places; the greater `heavy`, the fewer stand out."""
    result = np.zeros(FRAMES)
    count = round(a_second * FRAMES / RATE)
    result[rng.integers(0, FRAMES, count)] = rng.choice((-1.0, 1.0), count) * rng.random(count) ** heavy
    return result


def _swelling(rng: np.random.Generator, hz: float, depth: float) -> Samples:
    """A level that moves irregularly, about one on the mean."""
    slow = np.fft.irfft(np.fft.rfft(rng.standard_normal(FRAMES)) / (1.0 + (_HZ / hz) ** 4), FRAMES)
    return np.asarray(np.exp(depth * slow / slow.std()))


def _ringing(rng: np.random.Generator, signal: Samples, modes: int, low: float, high: float, seconds: float) -> Samples:
    """A signal through many resonances that have no common measure."""
    total = np.zeros(_HZ.size, dtype=complex)
    for hz in np.geomspace(low, high, modes) * (1.0 + 0.08 * rng.standard_normal(modes)):
        width = 1.0 / (np.pi * seconds * (1.0 + hz / high))
        total += rng.choice((-1.0, 1.0)) / (1.0 + 1j * (_HZ - hz) / width)
    return np.asarray(np.fft.irfft(np.fft.rfft(signal) * total, FRAMES))


@dataclass(frozen=True, slots=True)
class Texture:
    id: str
    label: str
    make: Callable[[np.random.Generator], Samples]


TEXTURES = (
    Texture("spray", "Spray", lambda rng: _band(rng, 4000.0, 15000.0)),
    Texture("shingle", "Shingle", lambda rng: _through(_grains(rng, 900.0, 3.0), 2000.0, 7000.0)),
    Texture("gravel", "Gravel", lambda rng: _through(_grains(rng, 1500.0, 2.0), 350.0, 2200.0)),
    Texture("paper", "Paper", lambda rng: _band(rng, 900.0, 9000.0, -2.0) * _swelling(rng, 45.0, 0.7)),
    Texture("steam", "Steam", lambda rng: _band(rng, 2500.0, 9000.0, 3.0) * _swelling(rng, 8.0, 0.3)),
    Texture("rope", "Rope", lambda rng: _band(rng, 90.0, 600.0, -3.0) * _swelling(rng, 30.0, 1.0)),
    Texture("tin", "Tin", lambda rng: _ringing(rng, _grains(rng, 260.0, 2.0), 40, 700.0, 9000.0, 0.03)),
    Texture("felt", "Felt", lambda rng: _band(rng, 120.0, 1100.0, -3.0)),
    Texture("sparks", "Sparks", lambda rng: _through(_grains(rng, 140.0, 4.0), 3000.0, 16000.0)),
    Texture("chain", "Chain", lambda rng: _ringing(rng, _grains(rng, 700.0, 3.0), 60, 1800.0, 12000.0, 0.008)),
)
TEXTURE_BY_ID = {texture.id: texture for texture in TEXTURES}


@functools.cache
def texture(name: str) -> Samples:
    """A texture (FRAMES,) at RATE, of unit power."""
    made = TEXTURE_BY_ID[name].make(np.random.default_rng(sum(name.encode())))
    made = made - made.mean()
    return np.ascontiguousarray(made / np.sqrt(np.mean(made**2)))

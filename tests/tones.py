"""Tones through `yellow-ember process`, and what comes out of them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt

from yellow_ember.cli import main

RATE = 48000
TONE_SECONDS = 0.4
REFERENCE_DBFS = -18.0
Signal = NDArray[np.float64]


def write_chain(folder: Path, *stages: dict[str, Any]) -> Path:
    """A chain file with these stages."""
    path = folder / "chain.json"
    path.write_text(json.dumps({"format": "yellow-ember/chain", "version": 1, "stages": list(stages)}))
    return path


def process(folder: Path, signal: Signal, *stages: dict[str, Any], rate: int = RATE,
            options: tuple[str, ...] = ()) -> Signal:
    """A signal (channels, frames) through a chain, by way of files and the command."""
    source, target = folder / "in.wav", folder / "out.wav"
    soundfile.write(source, signal.T, rate, subtype="DOUBLE")
    target.unlink(missing_ok=True)
    chain = write_chain(folder, *stages)
    assert main(["process", str(source), str(target), "--chain", str(chain), "--dtype", "float32", *options]) == 0
    result, found_rate = soundfile.read(target, always_2d=True)
    assert found_rate == rate
    assert result.shape == signal.T.shape
    return np.asarray(result.T)


def tape(folder: Path, signal: Signal, **params: Any) -> Signal:
    """A signal through one tape machine with its levels not linked."""
    return process(folder, signal, {"kind": "tape", "params": {"link_levels": False, **params}})


def tones(hz: float, levels_dbfs: Signal) -> Signal:
    """One channel: a sine at each level in turn (dB of its peak)."""
    frames = round(TONE_SECONDS * RATE)
    wave = np.sin(2.0 * np.pi * hz * np.arange(frames) / RATE)
    return np.concatenate([10.0 ** (level / 20.0) * wave for level in levels_dbfs])[None, :]


def harmonics(signal: Signal, hz: float, count: int = 5) -> Signal:
    """Amplitudes (tones, count) of the harmonics of each tone made by `tones`."""
    frames = round(TONE_SECONDS * RATE)
    parts = signal[0].reshape(-1, frames)[:, frames // 4:-frames // 8]
    window = np.blackman(parts.shape[1])
    time = np.arange(parts.shape[1]) / RATE
    kernels = np.exp(-2j * np.pi * hz * np.outer(np.arange(1, count + 1), time)) * window
    return np.asarray(2.0 * np.abs(parts @ kernels.T) / window.sum())


def decibels(amplitude: Signal | float) -> Signal:
    return np.asarray(20.0 * np.log10(np.maximum(amplitude, 1e-12)))


def inharmonic_db(part: Signal, hz: float) -> float:
    """All of a piece (frames,) that is no harmonic of a tone below 20 kHz, against all below 20 kHz."""
    power = np.abs(np.fft.rfft(part * np.kaiser(part.size, 20.0))) ** 2
    axis = np.fft.rfftfreq(part.size, 1.0 / RATE)
    audible = axis < 20000.0
    harmonic = np.abs(axis - np.round(axis / hz) * hz) < 30.0
    return float(10.0 * np.log10(power[audible & ~harmonic].sum() / power[audible].sum()))


def highest_above_8_khz(part: Signal) -> float:
    """The greatest amplitude of a signal (frames,) above 8 kHz, from a quarter of a second on, in dB."""
    left = sosfilt(butter(8, 8000.0, "high", fs=RATE, output="sos"), part)
    return float(decibels(np.abs(left[RATE // 4:]).max()))

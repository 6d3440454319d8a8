"""Programme loudness and peaks, block by block.  ITU-R BS.1770-5, EBU R 128."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels.filters import biquads
from yellow_ember.dsp.kernels.meters import true_peaks
from yellow_ember.dsp.metering import gated, k_weighting, lufs, moving_mean, true_peak_phases

_STEP_SECONDS = 0.1
_GATE_STEPS = 4
_SHORT_STEPS = 30
_LONGEST = 8192


@dataclass(frozen=True, slots=True)
class Loudness:
    """Levels of a stretch of sound; -inf where there is none."""

    integrated_lufs: float
    short_term_max_lufs: float
    momentary_max_lufs: float
    true_peak_dbtp: float
    peak_dbfs: float
    rms_dbfs: float

    @property
    def crest_db(self) -> float:
        return self.peak_dbfs - self.rms_dbfs if math.isfinite(self.rms_dbfs) else 0.0


class LoudnessScan:
    """Collects a signal's loudness; memory grows by 10 numbers a second."""

    def __init__(self, rate: float, channels: int) -> None:
        self._rate = rate
        self._sections: Samples = np.array(k_weighting(rate))
        self._state: Samples = np.zeros((channels, 2, 2))
        self._phases = true_peak_phases()
        held = self._phases.shape[1] - 1
        self._history: Samples = np.zeros((channels, held))
        self._line: Samples = np.zeros(held + _LONGEST)
        self._last: Samples = np.zeros((channels, 2))
        self._fine: Samples = np.zeros(self._phases.shape[0] * _LONGEST + 2)
        self._step = max(1, round(rate * _STEP_SECONDS))
        self._steps: list[float] = []
        self._sum = 0.0
        self._filled = 0
        self._true_peak = self._peak = self._square = 0.0
        self._samples = 0

    def push(self, block: Samples) -> None:
        """Take a block (channels, frames) of any length; it is not changed."""
        for start in range(0, block.shape[1], _LONGEST):
            part = np.array(block[:, start:start + _LONGEST], order="C")
            self._look(part)
            self._peak = max(self._peak, float(np.abs(part).max()))
            self._square += float(np.sum(part * part))
            self._samples += part.size
            biquads(part, self._sections, self._state)
            power = np.sum(part * part, axis=0)
            at = 0
            while at < power.size:
                take = min(self._step - self._filled, power.size - at)
                self._sum += float(power[at:at + take].sum())
                self._filled += take
                at += take
                if self._filled == self._step:
                    self._steps.append(self._sum / self._step)
                    self._sum, self._filled = 0.0, 0

    def _look(self, part: Samples) -> None:
        """Look for peaks between the samples of a block, of what came before its last frames."""
        peaks = np.empty_like(part)
        true_peaks(part, self._phases, self._history, self._last, self._line, self._fine, peaks)
        self._true_peak = max(self._true_peak, float(peaks.max()))

    def result(self) -> Loudness:
        """What was collected; nothing may be pushed after it."""
        # What was pushed last lies in the interpolator still.
        self._look(np.zeros((self._history.shape[0], self._phases.shape[1])))
        steps = np.array(self._steps)
        if steps.size < _GATE_STEPS and self._samples:
            # Shorter than one gating block: the whole is one block.
            total = float(steps.sum()) * self._step + self._sum
            steps = np.full(_GATE_STEPS, total / max(1, len(self._steps) * self._step + self._filled))
        gates = moving_mean(steps, _GATE_STEPS)
        short = moving_mean(steps, min(_SHORT_STEPS, max(1, steps.size)))
        peak_floor = 1e-15
        return Loudness(
            gated(gates),
            lufs(float(short.max())) if short.size else -math.inf,
            lufs(float(gates.max())) if gates.size else -math.inf,
            20.0 * math.log10(max(self._true_peak, self._peak)) if self._peak > peak_floor else -math.inf,
            20.0 * math.log10(self._peak) if self._peak > peak_floor else -math.inf,
            10.0 * math.log10(self._square / self._samples) if self._square > peak_floor else -math.inf)


def loudness(signal: Samples, rate: float) -> Loudness:
    """Loudness of a whole signal (channels, frames)."""
    scan = LoudnessScan(rate, signal.shape[0])
    scan.push(signal)
    return scan.result()

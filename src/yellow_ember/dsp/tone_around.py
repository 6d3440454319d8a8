"""Lean, clean lows and the tone behind: what every non-linear stage does around its non-linearity."""

from __future__ import annotations

import numpy as np

from yellow_ember.dsp.arrays import Samples, block_view
from yellow_ember.dsp.filters import BUTTERWORTH_Q, low_pass, split, tilt
from yellow_ember.dsp.kernels.filters import biquads, delay
from yellow_ember.dsp.kernels.mixing import add
from yellow_ember.dsp.parameters import Group, Number, Taper, Values, as_number
from yellow_ember.dsp.stage import Setup

LEAN_DB = Number(
    id="lean_db", label="Lean", unit="dB", minimum=-12.0, maximum=12.0, default=0.0, group=Group.DRIVE,
    help="Moves the distortion towards highs (up) or lows (down) while the tone of the clean sound stays.")
LEAN_HZ = Number(
    id="lean_hz", label="Lean pivot", unit="Hz", minimum=100.0, maximum=5000.0, default=700.0,
    taper=Taper.LOG, decimals=0, group=Group.DRIVE,
    help="The frequency about which Lean tips the drive from lows to highs.")
CLEAN_LOWS_HZ = Number(
    id="clean_lows_hz", label="Clean lows", unit="Hz", minimum=20.0, maximum=500.0, default=20.0,
    taper=Taper.LOG, decimals=0, floor_word="off", group=Group.DRIVE,
    help="Everything below this frequency passes untouched, so that sub bass and kicks stay firm.")
LEAN_PARAMETERS = (LEAN_DB, LEAN_HZ, CLEAN_LOWS_HZ)
TONE_HZ = Number(
    id="tone_hz", label="Tone", unit="Hz", minimum=500.0, maximum=20000.0, default=20000.0, taper=Taper.LOG,
    decimals=0, top_word="open", group=Group.TONE,
    help="Rolls off the fizz right after the distortion.")


class ToneAround:
    """Tips the signal before the non-linearity and back after it, rolls highs off, and leads the lows past it all.

    inner_latency : frames by which what lies between `before` and `after` delays
    Lean's two filters are exact inverses; the split is a Linkwitz-Riley crossover of
    fourth order, whose sum is flat.
    """

    def __init__(self, setup: Setup, inner_latency: int) -> None:
        self._rate = setup.rate
        channels = setup.channels
        self._lows: Samples = np.zeros(channels * setup.max_block)
        self._ring: Samples = np.zeros((channels, inner_latency))
        self._position: Samples = np.zeros(1)
        self._low_state: Samples = np.zeros((channels, 2, 2))
        self._high_state: Samples = np.zeros((channels, 2, 2))
        self._lean_state: Samples = np.zeros((channels, 1, 2))
        self._back_state: Samples = np.zeros((channels, 1, 2))
        self._low, self._high = split(CLEAN_LOWS_HZ.minimum, setup.rate)
        self._tone_state: Samples = np.zeros((channels, 1, 2))
        self._tip = np.zeros((1, 5))
        self._back = np.zeros((1, 5))
        self._tone = np.zeros((1, 5))
        self._leaning = self._splitting = self._toned = False

    def state(self) -> list[Samples]:
        return [self._ring, self._position, self._low_state, self._high_state, self._lean_state,
                self._back_state, self._tone_state]

    def set(self, values: Values) -> None:
        """Take `lean_db`, `lean_hz`, `clean_lows_hz` and, where the stage has it, `tone_hz`.

        All are moved by the host's crossfade.
        """
        lean, corner = as_number(values["lean_db"]), as_number(values["clean_lows_hz"])
        self._leaning, self._splitting = lean != 0.0, corner > CLEAN_LOWS_HZ.minimum
        if self._leaning:
            pivot = as_number(values["lean_hz"])
            self._tip[0] = tilt(pivot, lean, self._rate)
            self._back[0] = tilt(pivot, -lean, self._rate)
        if self._splitting:
            self._low, self._high = split(corner, self._rate)
        tone = as_number(values.get("tone_hz", TONE_HZ.maximum))
        self._toned = tone < TONE_HZ.maximum
        if self._toned:
            self._tone[0] = low_pass(tone, BUTTERWORTH_Q, self._rate)

    def before(self, block: Samples) -> None:
        if self._splitting:
            lows = block_view(self._lows, *block.shape)
            lows[...] = block
            biquads(lows, self._low, self._low_state)
            biquads(block, self._high, self._high_state)
        if self._leaning:
            biquads(block, self._tip, self._lean_state)

    def after(self, block: Samples) -> None:
        if self._leaning:
            biquads(block, self._back, self._back_state)
        if self._toned:
            biquads(block, self._tone, self._tone_state)
        if self._splitting:
            lows = block_view(self._lows, *block.shape)
            self._position[0] = delay(lows, self._ring, int(self._position[0]))
            add(block, lows)

"""How long sound takes out of the card and in again, measured by a burst."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_BURST_FRAMES = 4096
_BURST_LEVEL = 0.25
_SECONDS = 2.0
_CLEAR = 12.0
"""How far the burst's place has to stand out of the correlation's effective value."""


class RoundTripProbe:
    """Sends the burst, and keeps what comes in; `turn` belongs to the audio thread."""

    def __init__(self, strip_id: str, rate: int) -> None:
        self.strip_id = strip_id
        signs = np.random.default_rng(1).choice((-1.0, 1.0), _BURST_FRAMES)
        frames = round(_SECONDS * rate)
        self._burst: NDArray[np.float32] = np.zeros(frames, np.float32)
        self._burst[:_BURST_FRAMES] = _BURST_LEVEL * signs
        self._came_in: NDArray[np.float32] = np.zeros(frames, np.float32)
        self._done = 0

    @property
    def done(self) -> bool:
        return self._done == self._burst.size

    def turn(self, came_in: NDArray[np.float32] | None, goes_out: NDArray[np.float32]) -> None:
        """Take a block of the input (frames,), where there is one, and make the block that goes out (rows, frames)."""
        count = min(goes_out.shape[1], self._burst.size - self._done)
        goes_out.fill(0.0)
        goes_out[:2, :count] = self._burst[self._done:self._done + count]
        if came_in is not None:
            self._came_in[self._done:self._done + count] = came_in[:count]
        self._done += count

    def frames(self) -> int | None:
        """How late the burst came in, None where it did not."""
        places = self._burst.size - _BURST_FRAMES + 1
        spectra = np.fft.rfft(self._came_in) * np.fft.rfft(self._burst).conj()
        matched = np.abs(np.fft.irfft(spectra, self._burst.size)[:places])
        effective = float(np.sqrt(np.mean(matched**2)))
        best = int(np.argmax(matched))
        return best if effective > 0.0 and float(matched[best]) > _CLEAR * effective else None

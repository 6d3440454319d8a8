"""The cards that PortAudio knows, with its blocking calls."""

from __future__ import annotations

import contextlib
from types import ModuleType

import numpy as np
from numpy.typing import NDArray

from yellow_ember.engine.live.cards import DeviceError, QueuedCard
from yellow_ember.engine.live.ports import MASTER_CHANNELS, Crossing, Ports


def _portaudio() -> ModuleType | None:
    """The sounddevice package, or None where PortAudio's library is not installed."""
    try:
        import sounddevice
    except OSError:
        return None
    result: ModuleType = sounddevice
    return result


def portaudio_names() -> list[str]:
    """Every output that PortAudio finds."""
    sounddevice = _portaudio()
    names: list[str] = []
    if sounddevice is not None:
        with contextlib.suppress(sounddevice.PortAudioError):
            names = [device["name"] for device in sounddevice.query_devices()
                     if device["max_output_channels"] >= MASTER_CHANNELS]
    return names


class PortAudioCard(QueuedCard):
    """A real card.  DeviceError where it is not there or does not take the rate."""

    def __init__(self, name: str, rate: int, block: int, ports: Ports, *, live: bool) -> None:
        super().__init__(rate, block, ports, live=live)
        sounddevice = _portaudio()
        if sounddevice is None:
            raise DeviceError(f"{name} needs the PortAudio library, which is not installed")
        self._inputs = ports.card_inputs
        self._filling = 0
        """Blocks until the queue is full for the first time: it was empty, which is no dropout."""
        common = {"samplerate": rate, "blocksize": block, "device": name, "dtype": "float32",
                  "latency": self.delay / rate}
        try:
            if self._inputs:
                self._stream = sounddevice.RawStream(channels=(self._inputs, MASTER_CHANNELS), **common)
            else:
                self._stream = sounddevice.RawOutputStream(channels=MASTER_CHANNELS, **common)
            self._stream.start()
        except (sounddevice.PortAudioError, ValueError) as error:
            with_inputs = f" with {self._inputs} inputs" if self._inputs else ""
            raise DeviceError(f"{name} can't play at {rate} Hz{with_inputs}: {error}") from None
        self._trouble: type[Exception] = sounddevice.PortAudioError

    @property
    def round_trip(self) -> int:
        return self.delay + (round(self._stream.latency[0] * self.rate) if self._inputs else 0)

    def use(self, ports: Ports) -> bool:
        return ports.card_inputs <= self._inputs and super().use(ports)

    def read(self, crossing: Crossing) -> None:
        if self._inputs:
            try:
                sound, overflowed = self._stream.read(self.block)
            except self._trouble as error:
                raise DeviceError(f"the card stopped: {error}") from None
            self.missed += bool(overflowed)
            self._deal(crossing, np.frombuffer(sound, np.float32).reshape(self.block, self._inputs))

    def write(self, block: NDArray[np.float32]) -> None:
        try:
            if self._stream.stopped:
                self._stream.start()
                self._filling = self.delay // self.block
            ran_dry = self._stream.write(block)
            self.missed += bool(ran_dry) and self._filling <= 0
            self._filling -= 1
        except self._trouble as error:
            raise DeviceError(f"the card stopped: {error}") from None

    def pause(self) -> None:
        with contextlib.suppress(self._trouble):
            self._stream.stop()

    def close(self) -> None:
        with contextlib.suppress(self._trouble):
            self._stream.stop()
            self._stream.close()

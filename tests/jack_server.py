"""A JACK server with its dummy driver, and a program that plays into ours and listens to it."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellow_ember.engine.live.jack_card import jack_library, listed_ports
from yellow_ember.engine.live.jack_parking import Parking

HAVE_JACK = shutil.which("jackd") is not None and jack_library() is not None


class Server:
    """The server of `conftest`'s name, which `start` may bring up again in another way.

    There is room for eight names on a machine, and those of servers that were killed stay taken.
    """

    def __init__(self) -> None:
        self.process: subprocess.Popen[bytes] | None = None

    def start(self, rate: int = 48000, period: int = 128) -> None:
        self.process = subprocess.Popen(
            ["jackd", "-n", os.environ["JACK_DEFAULT_SERVER"], "--no-realtime",
             "-d", "dummy", "-r", str(rate), "-p", str(period)],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, "JACK_NO_AUDIO_RESERVATION": "1"})
        jack = jack_library()
        assert jack is not None
        end = time.monotonic() + 20.0
        while True:
            try:
                jack.Client("looks", no_start_server=True).close()
                return
            except jack.JackError:
                assert time.monotonic() < end, "jackd does not come up"
                time.sleep(0.05)

    def end(self, number: signal.Signals = signal.SIGTERM) -> None:
        if self.process is not None:
            self.process.send_signal(number)
            self.process.wait(10.0)
            self.process = None


class Neighbour:
    """Another program: two ports out, two in, a sound that it plays and what it hears meanwhile."""

    def __init__(self) -> None:
        jack = jack_library()
        assert jack is not None
        self.client = jack.Client("Neighbour", no_start_server=True)
        self.outs = [self.client.outports.register(f"out {index}") for index in (1, 2)]
        self.ins = [self.client.inports.register(f"in {index}") for index in (1, 2)]
        self._sent: NDArray[np.float32] = np.zeros((2, 0), np.float32)
        self._heard: NDArray[np.float32] = np.zeros((2, 0), np.float32)
        self._at = 0
        self._parking = Parking()
        self.client.set_process_callback(self._process)
        self.client.set_shutdown_callback(self._parking.server_gone)
        self.client.activate()

    def _process(self, frames: int) -> None:
        self._parking.pass_by()
        at, end = self._at, self._at + frames
        inside = end <= self._sent.shape[1]
        for row, port in enumerate(self.outs):
            port.get_array()[:] = self._sent[row, at:end] if inside else 0.0
        if inside:
            for row, port in enumerate(self.ins):
                self._heard[row, at:end] = port.get_array()
            self._at = end

    def connect(self, source: str, target: str) -> None:
        self.client.connect(source, target)

    def ports(self, words: str) -> list[str]:
        """Names of all ports that hold these words."""
        return [port.name for port in listed_ports(self.client, words)]

    def play(self, sound: NDArray[Any]) -> NDArray[np.float32]:
        """Play (2, frames) and return what was heard from its first frame on."""
        self._heard, self._at = np.zeros(sound.shape, np.float32), sound.shape[1]
        self._sent = sound.astype(np.float32)
        self._at = 0
        blocks = int(self.client.blocksize)
        end = time.monotonic() + sound.shape[1] / self.client.samplerate + 20.0
        while self._at + blocks <= sound.shape[1]:
            assert time.monotonic() < end
            time.sleep(0.02)
        return self._heard

    def close(self) -> None:
        self._parking.close(self.client)


@contextmanager
def neighbour() -> Iterator[Neighbour]:
    result = Neighbour()
    try:
        yield result
    finally:
        result.close()

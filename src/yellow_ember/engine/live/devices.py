"""Where sound goes and comes from: the silent card, a JACK server, and the cards that PortAudio knows."""

from __future__ import annotations

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from yellow_ember.engine.live.cards import Card, DeviceError, SilentCard
from yellow_ember.engine.live.jack_card import JackCard, jack_runs
from yellow_ember.engine.live.messages import DeviceSettings
from yellow_ember.engine.live.portaudio_card import PortAudioCard, portaudio_names
from yellow_ember.engine.live.ports import Ports

SILENT_CARD, JACK = "Silent card", "JACK"
OWN_OUTPUT = "its own output"
"""What the silent card may be fed with beside a file."""
_LONGEST_SECONDS = 600


def device_names() -> list[str]:
    """The silent card, a JACK server where one runs, and every output that PortAudio finds."""
    return [SILENT_CARD, *([JACK] if jack_runs() else []), *portaudio_names()]


def open_card(device: DeviceSettings, rate: int, ports: Ports, *, live: bool, any_rate: bool = False) -> Card:
    """Open a device.  DeviceError where it is not there or does not take the rate.

    Parameters
    ----------
    live : bool
        Something comes in, so that nothing may wait.
    any_rate : bool
        A server's rate is as good, since nothing is played yet.
    """
    if device.name == SILENT_CARD:
        source = None if device.feed in ("", OWN_OUTPUT) else _sound_of(device.feed, rate)
        return SilentCard(rate, device.block, device.record, ports, live=live, source=source,
                          loops_back=device.feed == OWN_OUTPUT)
    if device.name == JACK:
        return JackCard(None if any_rate else rate, ports)
    return PortAudioCard(device.name, rate, device.block, ports, live=live)


def _sound_of(path: str, rate: int) -> NDArray[np.float32]:
    """What a file holds, (frames, channels), at a rate; its first minutes where it is long."""
    try:
        with soundfile.SoundFile(path) as file:
            sound = file.read(frames=_LONGEST_SECONDS * file.samplerate, dtype="float32", always_2d=True)
            own_rate = file.samplerate
    except (OSError, soundfile.LibsndfileError) as error:
        raise DeviceError(f"the silent card can't play {path}: {error}") from None
    if not len(sound):
        raise DeviceError(f"the silent card can't play {path}: it is empty")
    return np.ascontiguousarray(sound if own_rate == rate else soxr.resample(sound, own_rate, rate))

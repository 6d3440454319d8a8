"""MIDI controllers that the system itself knows (ALSA), heard and told where no JACK server carries them."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from pathlib import Path
from types import ModuleType
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from yellow_ember.app.state.settings import Settings
from yellow_ember.engine.live.devices import JACK
from yellow_ember.engine.live.jack_card import CLIENT

_SEQUENCER = Path("/dev/snd/seq")
"""Where ALSA's sequencer is, if the machine has one."""
_LOOK_MS = 2000
_LOOPS = (CLIENT, "Midi Through")
"""Ports of ours, and one that would send back what we say."""


def midi_library() -> ModuleType | None:
    """The rtmidi package, or None where it is not installed or does not load."""
    try:
        import rtmidi
    except ImportError:
        return None
    result: ModuleType = rtmidi
    return result


class MidiDevices(QObject):
    """Every port that is there is listened to, and told; `moved` gives out what came, from the library's thread.

    Parameters
    ----------
    carried_by : int | None
        The library's number of what carries messages; None for ALSA, where the machine has it.
    """

    moved = pyqtSignal(bytes)

    def __init__(self, settings: Settings, carried_by: int | None = None) -> None:
        super().__init__()
        self._settings = settings
        self._library = midi_library()
        if self._library is not None and carried_by is None:
            carried_by = self._library.API_LINUX_ALSA if _SEQUENCER.exists() else None
        self._carried_by = carried_by
        self._open: dict[tuple[bool, str], Any] = {}
        """By whether it comes in, and the port's name."""
        self._lists: dict[bool, Any] = {}
        """What tells which ports there are, by the same."""
        self._looking = QTimer(self)
        self._looking.setInterval(_LOOK_MS)
        self._looking.timeout.connect(self.look)
        if self._library is not None and self._carried_by is not None:
            self._looking.start()
            self.look()

    def look(self) -> None:
        """Open ports that came, close those that went."""
        carried = self._settings.device == JACK
        for comes_in in (True, False):
            there = [] if carried else self._names(comes_in)
            for key in [key for key in self._open if key[0] is comes_in and key[1] not in there]:
                self._open.pop(key).close_port()
            for number, name in enumerate(there):
                if (comes_in, name) not in self._open and not any(loop in name for loop in _LOOPS):
                    # It may have gone just now, or let nobody in.
                    with contextlib.suppress(OSError):
                        self._open[comes_in, name] = self._opened(comes_in, number)

    def _names(self, comes_in: bool) -> list[str]:
        try:
            if comes_in not in self._lists:
                self._lists[comes_in] = self._end(comes_in)
            return list(self._lists[comes_in].get_ports())
        except OSError:
            return []

    def _end(self, comes_in: bool) -> Any:
        assert self._library is not None
        return (self._library.MidiIn if comes_in else self._library.MidiOut)(self._carried_by, name=CLIENT)

    def _opened(self, comes_in: bool, number: int) -> Any:
        end = self._end(comes_in)
        if comes_in:
            end.set_callback(self._take)
        return end.open_port(number, "control in" if comes_in else "control out")

    def _take(self, event: tuple[Sequence[int], float], _data: object) -> None:
        self.moved.emit(bytes(event[0]))

    @property
    def names(self) -> list[str]:
        """The ports that are open."""
        return [name for _, name in self._open]

    def send(self, messages: Sequence[bytes]) -> None:
        """Tell every controller."""
        for (comes_in, _), end in self._open.items():
            if not comes_in:
                for message in messages:
                    with contextlib.suppress(OSError):
                        end.send_message(list(message))

    def close(self) -> None:
        """Let go of all ports."""
        self._looking.stop()
        for end in self._open.values():
            end.close_port()
        self._open.clear()
        self._lists.clear()

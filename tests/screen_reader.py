"""A screen reader's side: the buses that it needs, and a look at what a program shows on them (AT-SPI)."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QCoreApplication, QObject, pyqtSlot
from PyQt6.QtDBus import QDBusConnection, QDBusMessage, QDBusVariant

_LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")
HAVE_BUSES = bool(shutil.which("dbus-daemon")) and _LAUNCHER.exists()
_ACCESSIBLE, _VALUE = "org.a11y.atspi.Accessible", "org.a11y.atspi.Value"
_PROPERTIES = "org.freedesktop.DBus.Properties"
_ROOT = "/org/a11y/atspi/accessible/root"
_CHECKED, _TAKES_KEYS, _SHOWING = 1 << 4, 1 << 11, 1 << 25
"""AT-SPI's states, in the first word of them."""


@dataclass(frozen=True)
class Seen:
    """One thing of a window as a screen reader sees it."""

    buses: Buses
    owner: str
    path: str

    def _ask(self, interface: str, method: str, *arguments: object) -> Any:
        return self.buses.ask(self.owner, self.path, interface, method, *arguments)

    @property
    def name(self) -> str:
        return str(self._ask(_PROPERTIES, "Get", _ACCESSIBLE, "Name"))

    @property
    def description(self) -> str:
        return str(self._ask(_PROPERTIES, "Get", _ACCESSIBLE, "Description"))

    @property
    def role(self) -> str:
        return str(self._ask(_ACCESSIBLE, "GetRoleName"))

    def _is(self, *states: int) -> bool:
        word = self._ask(_ACCESSIBLE, "GetState")[0]
        return all(word & state for state in states)

    @property
    def checked(self) -> bool:
        return self._is(_CHECKED)

    @property
    def takes_keys(self) -> bool:
        """True where one gets to by Tab, and sees it."""
        return self._is(_TAKES_KEYS, _SHOWING)

    @property
    def value(self) -> float:
        return float(self._ask(_PROPERTIES, "Get", _VALUE, "CurrentValue"))

    @property
    def most(self) -> float:
        return float(self._ask(_PROPERTIES, "Get", _VALUE, "MaximumValue"))

    def set_value(self, value: float) -> None:
        self._ask(_PROPERTIES, "Set", _VALUE, "CurrentValue", QDBusVariant(float(value)))

    def press(self) -> None:
        self._ask("org.a11y.atspi.Action", "DoAction", 0)

    def children(self) -> list[Seen]:
        return [Seen(self.buses, owner, path) for owner, path in self._ask(_ACCESSIBLE, "GetChildren")]

    def below(self) -> Iterator[Seen]:
        """It and all that is in it."""
        yield self
        for child in self.children():
            yield from child.below()

    def find(self, matches: Callable[[Seen], bool]) -> Seen:
        return next(seen for seen in self.below() if matches(seen))


class Announcements(QObject):
    """What the program has a screen reader say."""

    def __init__(self) -> None:
        super().__init__()
        self.said: list[str] = []

    @pyqtSlot(QDBusMessage)
    def take(self, message: QDBusMessage) -> None:
        said = message.arguments()[3]
        self.said.append(str(said.variant() if isinstance(said, QDBusVariant) else said))


class Buses:
    """A session's bus and that of screen readers, below a folder of their own."""

    def __init__(self, environment: dict[str, str]) -> None:
        reads, writes = os.pipe()
        self._bus = subprocess.Popen(["dbus-daemon", "--session", "--nofork", f"--print-address={writes}"],
                                     pass_fds=(writes,), env=environment, stderr=subprocess.DEVNULL)
        os.close(writes)
        with os.fdopen(reads) as told:
            address = told.readline().strip()
        self.environment = environment | {"DBUS_SESSION_BUS_ADDRESS": address,
                                          "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1"}
        # A group of its own: the daemons that it starts end with it.
        self._launcher = subprocess.Popen([str(_LAUNCHER), "--launch-immediately"], env=self.environment,
                                          stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, process_group=0)
        session = QDBusConnection.connectToBus(address, f"session of {id(self)}")
        end = time.monotonic() + 20.0
        while not (answer := _call(session, "org.a11y.Bus", "/org/a11y/bus", "org.a11y.Bus", "GetAddress")):
            assert time.monotonic() < end, "the bus of screen readers does not come up"
            time.sleep(0.1)
        self._reader = QDBusConnection.connectToBus(answer[0], f"reader of {id(self)}")
        self.announcements = Announcements()
        self._reader.connect("", "", "org.a11y.atspi.Event.Object", "Announcement", self.announcements.take)

    def ask(self, owner: str, path: str, interface: str, method: str, *arguments: object) -> Any:
        answer = _call(self._reader, owner, path, interface, method, *arguments)
        return answer[0] if answer else None

    def application(self, seconds: float = 20.0) -> Seen:
        """The program, when it has come."""
        end = time.monotonic() + seconds
        desktop = Seen(self, "org.a11y.atspi.Registry", _ROOT)
        while not (programs := desktop.children()):
            assert time.monotonic() < end, "no program tells a screen reader anything"
            time.sleep(0.1)
        return programs[0]

    def wait_for(self, words: str, seconds: float = 20.0) -> None:
        """Wait until something is said that holds these words."""
        end = time.monotonic() + seconds
        while not any(words in said for said in self.announcements.said):
            assert time.monotonic() < end, f"{words!r} is not among {self.announcements.said}"
            QCoreApplication.processEvents()
            time.sleep(0.02)

    def close(self) -> None:
        os.killpg(self._launcher.pid, signal.SIGKILL)
        self._bus.kill()
        for process in (self._launcher, self._bus):
            process.wait()


def _call(connection: QDBusConnection, owner: str, path: str, interface: str, method: str,
          *arguments: object) -> list[Any]:
    message = QDBusMessage.createMethodCall(owner, path, interface, method)
    message.setArguments(list(arguments))
    answer = connection.call(message)
    return [] if answer.type() == QDBusMessage.MessageType.ErrorMessage else list(answer.arguments())

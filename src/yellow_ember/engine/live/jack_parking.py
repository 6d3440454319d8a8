"""Ending a JACK client that calls Python."""

from __future__ import annotations

import contextlib
import threading
import time
from typing import Any

_STANDS_SECONDS = 20.0
"""A server that stands still for a while is waited for, as it calls once more when it goes on."""
_LAST_TURN_SECONDS = 0.5
"""So long a turn may go on that the server was in when it went away."""


class Parking:
    """Where the thread waits that JACK calls a client in, once the client is to be closed.

    JACK's library ends that thread wherever it is.  In the midst of Python it would take the interpreter's lock along,
    and all else would wait for that for ever; here it holds nothing.
    """

    def __init__(self) -> None:
        self._closing = self._gone = False
        self._parked = threading.Event()
        self._never = threading.Lock()
        self._never.acquire()

    def pass_by(self) -> None:
        """To be called first in every process callback."""
        if self._closing:
            self._parked.set()
            self._never.acquire()

    def server_gone(self, *_why: Any) -> None:
        """To be called when the server shut down, and calls no more."""
        self._gone = True

    def close(self, client: Any) -> None:
        """Close an active client."""
        self._closing = True
        end = time.monotonic() + _STANDS_SECONDS
        while not self._parked.wait(_LAST_TURN_SECONDS) and not self._gone and time.monotonic() < end:
            pass
        import jack

        # The server may be gone, which is as good.
        with contextlib.suppress(jack.JackError):
            client.deactivate(ignore_errors=True)
            client.close(ignore_errors=True)

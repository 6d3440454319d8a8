"""Ending a JACK client that calls Python."""

from __future__ import annotations

import contextlib
import threading
from typing import Any

_PATIENCE_SECONDS = 0.5
"""So long the server may take to call once more; one that is gone calls no more."""


class Parking:
    """Where the thread waits that JACK calls a client in, once the client is to be closed.

    JACK's library ends that thread wherever it is.  In the midst of Python it would take the interpreter's lock along,
    and all else would wait for that for ever; here it holds nothing.
    """

    def __init__(self) -> None:
        self._closing = False
        self._parked = threading.Event()
        self._never = threading.Lock()
        self._never.acquire()

    def pass_by(self) -> None:
        """To be called first in every process callback."""
        if self._closing:
            self._parked.set()
            self._never.acquire()

    def close(self, client: Any) -> None:
        """Close an active client."""
        self._closing = True
        self._parked.wait(_PATIENCE_SECONDS)
        import jack

        # The server may be gone, which is as good.
        with contextlib.suppress(jack.JackError):
            client.deactivate(ignore_errors=True)
            client.close(ignore_errors=True)

"""The one place where the user is told something, free of Qt."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

from yellow_ember.plain_text import plain_line


@dataclass(frozen=True, slots=True)
class Message:
    """When (local clock, HH:MM:SS) and what; `problem` is shown more strongly."""

    at: str
    text: str
    problem: bool = False


class Messages:
    """Collects messages, newest last, and tells its listener of each."""

    def __init__(self) -> None:
        self.all: list[Message] = []
        self.listener: Callable[[Message], None] | None = None

    def say(self, text: str) -> None:
        """Something that happened."""
        self._add(Message(time.strftime("%H:%M:%S"), text))

    def warn(self, text: str) -> None:
        """Something that went wrong, and what to do."""
        self._add(Message(time.strftime("%H:%M:%S"), text, problem=True))

    def _add(self, message: Message) -> None:
        message = replace(message, text=plain_line(message.text))
        self.all.append(message)
        del self.all[:-500]
        if self.listener is not None:
            self.listener(message)

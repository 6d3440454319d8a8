"""Opens tools (presets, meters, help and others); the window says where each of them goes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

Made = TypeVar("Made")


class Tools:
    """What a panel opens a tool with.

    place : takes a tool that was made and shows it somewhere; gives back the one that is shown
    """

    def __init__(self, give: Callable[..., Any]) -> None:
        self._give = give
        self.place: Callable[[Any], Any] = _show_alone

    def open(self, make: Callable[..., Made], *more: object) -> Made:
        """Make a tool of the pieces of state that its parameters name, and of `more`, and show it."""
        tool: Made = self.place(self._give(make, *more))
        return tool


def _show_alone(tool: Any) -> Any:
    """Show a tool where there is no window that has a place for it."""
    tool.show()
    return tool

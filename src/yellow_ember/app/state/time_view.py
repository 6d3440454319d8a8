"""Which stretch of the session the time line shows, and how the view moves: zoom, scroll, fit and follow."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

MOST_PIXELS = 16.0
"""Pixels that a frame takes at the closest."""
ZOOM_STEP = 1.25
"""What one turn of the wheel, or one key, brings nearer."""
_PAGE_EDGE = 0.98
"""Playing turns the page where it has come so far to the right."""

FOLLOWS = {"page": "Page by page", "centre": "Kept in the middle", "off": "Off"}
"""How the view follows the play position, and what that is called."""

SNAPS = {"beat": "Beats", "bar": "Bars", "crossing": "Zero crossings", "off": "Nothing"}
"""What places snap to, and what that is called."""


class TimeView(QObject):
    """A window of so many pixels over a session of so many frames; `changed` is sent when it shows something else."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.first = 0.0
        """The frame at the left edge."""
        self.frames_per_pixel = 1.0
        self._width, self._length = 1, 1
        self._fits = True
        """True while all is shown, whatever the length and the width become."""

    def set_size(self, width: int, length: int) -> None:
        """Show as before in a view of other pixels, or of a session of other frames."""
        if (width, length) != (self._width, self._length):
            self._width, self._length = max(1, width), max(1, length)
            if self._fits:
                self.show_all()
            else:
                self._move(self.first, self.frames_per_pixel)

    @property
    def width(self) -> int:
        """Pixels."""
        return self._width

    @property
    def end(self) -> float:
        """The frame at the right edge."""
        return self.first + self._width * self.frames_per_pixel

    def x_of(self, frame: float) -> float:
        """The pixel of a frame."""
        return (frame - self.first) / self.frames_per_pixel

    def frame_at(self, x: float) -> int:
        """The frame of a pixel, within the session."""
        return round(min(max(self.first + x * self.frames_per_pixel, 0.0), float(self._length)))

    def zoom(self, factor: float, x: float) -> None:
        """Bring what is under a pixel nearer by a factor; under 1 farther."""
        under = self.first + x * self.frames_per_pixel
        frames = self._bounded(self.frames_per_pixel / factor)
        self._fits = frames >= self._farthest
        self._move(under - x * frames, frames)

    def scroll(self, pixels: float) -> None:
        """Show what lies so many pixels farther on."""
        self._move(self.first + pixels * self.frames_per_pixel, self.frames_per_pixel)

    def show_all(self) -> None:
        """Show the whole session, also when it gets longer."""
        self._fits = True
        self._move(0.0, self._farthest)

    def show_stretch(self, start: float, end: float) -> None:
        """Show a stretch with a little on both sides."""
        if end > start:
            frames = self._bounded(1.06 * (end - start) / self._width)
            self._fits = frames >= self._farthest
            self._move(0.5 * (start + end - self._width * frames), frames)

    def go_to(self, first: float) -> None:
        """Let the left edge be at a frame."""
        self._move(first, self.frames_per_pixel)

    def follow(self, frame: float, before: float, how: str) -> None:
        """Keep a play position in view that was at `before`: one of FOLLOWS; one that was out of view is left alone."""
        if how == "centre":
            self._move(frame - 0.5 * self._width * self.frames_per_pixel, self.frames_per_pixel)
        elif how == "page" and self.first <= before <= self.end and not (
                self.first <= frame < self.first + _PAGE_EDGE * self._width * self.frames_per_pixel):
            self._move(frame - 0.02 * self._width * self.frames_per_pixel, self.frames_per_pixel)

    @property
    def _farthest(self) -> float:
        return self._length / self._width

    def _bounded(self, frames: float) -> float:
        return min(max(frames, 1.0 / MOST_PIXELS), max(self._farthest, 1.0 / MOST_PIXELS))

    def _move(self, first: float, frames: float) -> None:
        first = min(max(first, 0.0), max(0.0, self._length - self._width * frames))
        if (first, frames) != (self.first, self.frames_per_pixel):
            self.first, self.frames_per_pixel = first, frames
            self.changed.emit()
